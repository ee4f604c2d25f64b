package dial

import (
	"context"
	"net"
	"sync/atomic"
	"time"
)

// Activity notes when anything was heard from a device: a byte, or that it refused the
// connection. The zero Activity has heard nothing.
type Activity struct{ last atomic.Int64 }

// Heard says whether anything was.
func (e *Activity) Heard() bool { return e.last.Load() != 0 }

// Last is when something was heard at last, begun where nothing was since.
func (e *Activity) Last(begun time.Time) time.Time {
	if at := time.Unix(0, e.last.Load()); at.After(begun) {
		return at
	}
	return begun
}

func (e *Activity) hear() { e.last.Store(time.Now().UnixNano()) }

type activityKey struct{}

// WithActivity has connections that are made with the context tell it.
func WithActivity(ctx context.Context, e *Activity) context.Context {
	return context.WithValue(ctx, activityKey{}, e)
}

func activityOf(ctx context.Context) *Activity {
	e, _ := ctx.Value(activityKey{}).(*Activity)
	return e
}

type heardConn struct {
	net.Conn
	activity *Activity
}

// Read reads, and tells that something came.
func (c heardConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.activity.hear()
	}
	return n, err
}
