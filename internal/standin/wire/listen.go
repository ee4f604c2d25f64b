package wire

import (
	"context"
	"errors"
	"net"
	"syscall"
	"time"
)

// freed is how long a listener waits for an address that is still held: a program that is being started holds the sockets
// of the one that starts it until it runs, those that were closed meanwhile too.
const freed = 2 * time.Second

// Listen listens for TCP at an address, which a listener that was closed just now may have had.
func Listen(ctx context.Context, at string) (net.Listener, error) {
	for end := time.Now().Add(freed); ; {
		l, err := (&net.ListenConfig{}).Listen(ctx, "tcp4", at)
		if err == nil || !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(end) {
			return l, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}
