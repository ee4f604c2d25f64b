package shell

import (
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

func TestAFullDiskIsTold(t *testing.T) {
	for name, x := range map[string]struct {
		err  error
		full bool
	}{
		"nothing":                 {nil, false},
		"another trouble":         {errors.New("closed"), false},
		"a full disk":             {&pgconn.PgError{Code: "53100"}, true},
		"wrapped":                 {fmt.Errorf("keeping: %w", &pgconn.PgError{Code: "53100"}), true},
		"out of memory":           {&pgconn.PgError{Code: "53200"}, true},
		"too many connections":    {&pgconn.PgError{Code: "53300"}, false},
		"a constraint":            {&pgconn.PgError{Code: "23505"}, false},
		"a text that says it":     {errors.New("53100"), false},
		"no room in another word": {&pgconn.PgError{Code: "54000"}, false},
	} {
		if got := noRoom(x.err); got != x.full {
			t.Errorf("%s: %t", name, got)
		}
	}
}
