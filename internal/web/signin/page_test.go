package signin

import (
	"testing"

	"duskyharbor/internal/core/access"
)

func TestAnOpeningIsOvertakenByANewPassword(t *testing.T) {
	old := access.Set{ID: 1, Username: "admin"}
	for name, x := range map[string]struct {
		now  *access.Account
		want bool
	}{
		"nothing opens it":                {nil, false},
		"it still rests on it":            {&access.Account{SetID: 1, Username: "admin"}, false},
		"a new password of the same user": {&access.Account{SetID: 2, Username: "admin"}, true},
		"another user":                    {&access.Account{SetID: 2, Username: "service"}, false},
		"its streams rest on it":          {&access.Account{SetID: 2, Username: "admin", RTSPSet: 1}, false},
	} {
		if got := overtaken(x.now, old); got != x.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}
