package dial

import (
	"context"
	"net"
	"sync/atomic"
	"time"
)

// Ear notes when anything was heard from a device: a byte, or that it refused the
// connection. The zero Ear has heard nothing.
type Ear struct{ last atomic.Int64 }

// Heard says whether anything was.
func (e *Ear) Heard() bool { return e.last.Load() != 0 }

// Last is when something was heard at last, begun where nothing was since.
func (e *Ear) Last(begun time.Time) time.Time {
	if at := time.Unix(0, e.last.Load()); at.After(begun) {
		return at
	}
	return begun
}

func (e *Ear) hear() { e.last.Store(time.Now().UnixNano()) }

type earKey struct{}

// WithEar has connections that are made with the context tell the ear.
func WithEar(ctx context.Context, e *Ear) context.Context { return context.WithValue(ctx, earKey{}, e) }

func earOf(ctx context.Context) *Ear {
	e, _ := ctx.Value(earKey{}).(*Ear)
	return e
}

type heardConn struct {
	net.Conn
	ear *Ear
}

// Read reads, and tells the ear that something came.
func (c heardConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.ear.hear()
	}
	return n, err
}
