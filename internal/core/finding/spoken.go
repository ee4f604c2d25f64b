package finding

import (
	"fmt"
	"time"
)

// Spoken is a wait in words: "5 s", "a minute".
func Spoken(d time.Duration) string {
	if d == time.Minute {
		return "a minute"
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}
