package page

import (
	"context"
	"time"

	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/picture"
)

// pictureLimit is how long a picture may take.
const pictureLimit = 6 * time.Second

// Pictures fetches pictures from a device, by HTTP Digest.
type Pictures struct{ session *dial.Session }

// NewPictures makes a client; pin is the one of dial.Host.Client. The zero login sends no account.
func NewPictures(host dial.Host, pin *string, login dial.Login) Pictures {
	return Pictures{host.Session(pin, login.Try, dial.Digest(login.Username, login.Password))}
}

// Close lets idle connections go.
func (p Pictures) Close() { p.session.Close() }

// Get fetches the picture at an address: bytes that must still be checked. Errors are of the kinds of dial; tried
// names the picture in them ("the still").
func (p Pictures) Get(ctx context.Context, at, tried string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, pictureLimit)
	defer cancel()
	return p.session.Get(ctx, at, tried, picture.MostBytes)
}
