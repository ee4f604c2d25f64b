package trouble

import (
	"errors"
	"fmt"
	"testing"
)

func TestWhatIsTold(t *testing.T) {
	err := UserErrorf("%s is gone", "Slipway")
	if !IsUserError(fmt.Errorf("reading: %w", err)) || IsUserError(errors.New("x")) || IsUserError(nil) {
		t.Error("what is a sentence for the person")
	}
	for in, want := range map[string]string{"It is gone": "It is gone.", "It is gone.": "It is gone."} {
		if got := Sentence(errors.New(in)); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
