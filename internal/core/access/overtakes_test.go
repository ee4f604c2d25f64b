package access

import "testing"

func TestAnOpeningIsOvertakenByANewPassword(t *testing.T) {
	old := Set{ID: 1, Username: "admin"}
	for name, x := range map[string]struct {
		now  *Account
		want bool
	}{
		"nothing opens it":                {nil, false},
		"it still rests on it":            {&Account{SetID: 1, Username: "admin"}, false},
		"a new password of the same user": {&Account{SetID: 2, Username: "admin"}, true},
		"another user":                    {&Account{SetID: 2, Username: "service"}, false},
		"its streams rest on it":          {&Account{SetID: 2, Username: "admin", RTSPSet: 1}, false},
	} {
		if got := x.now.Overtakes(old); got != x.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}
