package wire

import (
	"context"
	"errors"
	"net"
	"syscall"
	"testing"
	"time"
)

// An address that is freed meanwhile is had; one that stays held is told as held, and nobody waits for who went.
func TestAnAddressThatIsFreedIsHad(t *testing.T) {
	t.Parallel()
	held, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := held.Addr().String()
	gone, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := Listen(gone, at); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("who went waits on: %v", err)
	}
	if _, err := Listen(t.Context(), at); !errors.Is(err, syscall.EADDRINUSE) {
		t.Errorf("a held address: %v", err)
	}
	time.AfterFunc(100*time.Millisecond, func() { _ = held.Close() })
	l, err := Listen(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	_ = l.Close()
}
