package streams

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/picture"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// stillLimit is how long a person waits for a still.
const stillLimit = 6 * time.Second

// checkJPEG decodes a still whole: what a browser gets is a picture and nothing else. Its print is read
// on the way.
func checkJPEG(ctx context.Context, data []byte, on string) (taken, error) {
	img, err := picture.Decode(ctx, data)
	switch {
	case ctx.Err() != nil:
		return taken{}, &dial.Error{Tried: "the still", On: on, Kind: dial.ErrUnreachable, Says: "no time was left to decode it: others were before it"}
	case err != nil:
		return taken{}, &dial.Error{Tried: "the still", On: on, Kind: dial.ErrMalformed, Says: picture.ErrPicture.Error()}
	}
	return taken{data, stream.PrintOf(img)}, nil
}

// taken is a still that was decoded, with what is kept of it to compare others with.
type taken struct {
	data  []byte
	print stream.Print
}

// Still is the still of a view's view stream, fetched now or a moment ago.
func (t *Stage) Still(ctx context.Context, of site.Source) ([]byte, error) {
	return t.stills.of(ctx, strconv.FormatInt(of.ID, 10), func(ctx context.Context) ([]byte, error) {
		shot, err := t.fetch(ctx, of)
		return shot.data, err
	})
}

// WholeStill is the still of a view's record stream, by which a person sees whether it is in focus.
func (t *Stage) WholeStill(ctx context.Context, of site.Source) ([]byte, error) {
	return t.stills.of(ctx, strconv.FormatInt(of.ID, 10)+"/whole", func(ctx context.Context) ([]byte, error) {
		shot, err := t.fetchBy(ctx, of, stream.ToExamine)
		return shot.data, err
	})
}

// fetch asks the camera for it.
func (t *Stage) fetch(ctx context.Context, of site.Source) (taken, error) {
	return t.fetchBy(ctx, of, stream.ToLook)
}

// fetchBy asks the camera for the still of the profile that pick says.
func (t *Stage) fetchBy(ctx context.Context, of site.Source, pick func([]stream.Profile) string) (taken, error) {
	d := of.Device
	ctx, cancel := context.WithTimeout(ctx, stillLimit)
	defer cancel()
	s, err := site.Load(ctx, t.Store, d.SiteID, []int64{d.ID})
	if err != nil {
		return taken{}, err
	}
	f, _ := facts.ForStreams(s, of)
	p, _, ok := f.Find(pick(f.Profiles))
	if !ok || p.Snapshot == "" {
		return taken{}, trouble.UserError(of.Place + " offers no still that was read.")
	}
	return t.get(ctx, of, s, p.Snapshot)
}

// StillOf is the still of one of a device's views, enrolled or not, fetched now or a moment ago:
// by it a person picks.
func (t *Stage) StillOf(ctx context.Context, of site.Source, video string) ([]byte, error) {
	return t.stills.of(ctx, fmt.Sprintf("%d/%s", of.Device.ID, video), func(ctx context.Context) ([]byte, error) {
		ctx, cancel := context.WithTimeout(ctx, 2*stillLimit)
		defer cancel()
		d := of.Device
		s, err := site.Load(ctx, t.Store, d.SiteID, []int64{d.ID})
		if err != nil {
			return nil, err
		}
		views, _ := facts.VideoSources.Of(s, d.ID)
		if !slices.ContainsFunc(views, func(v stream.VideoSource) bool { return v.Token == video }) {
			return nil, trouble.UserError(d.Place + " has no such view.")
		}
		c, err := t.Accounts.Open(ctx, d, s, "a still")
		if err != nil {
			return nil, err
		}
		defer c.Close()
		services, _ := facts.Services.Of(s, d.ID)
		all, err := c.Profiles(ctx, services)
		if err != nil {
			return nil, err
		}
		own, _ := stream.OfSource(all, video)
		p, _, ok := stream.Facts{Profiles: own}.Find(stream.ToLook(own))
		if !ok {
			return nil, trouble.UserError(d.Place + " has no such view.")
		}
		if err := c.Addresses(ctx, services, &p); err != nil {
			return nil, err
		}
		shot, err := t.get(ctx, of, s, p.Snapshot)
		return shot.data, err
	})
}

// get fetches a still from where the device has it.
func (t *Stage) get(ctx context.Context, of site.Source, s *site.Snapshot, from string) (taken, error) {
	d := of.Device
	account, ok := facts.Account.Of(s, d.ID)
	if !ok || d.Address == nil {
		return taken{}, trouble.UserError("No account opens " + of.Place + ".")
	}
	login, err := t.Accounts.LoginOf(ctx, d, s, account.SetID, access.Web, "a still")
	if err != nil {
		return taken{}, err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	pictures := page.NewPictures(t.Dialer.At(*d.Address), &pin, login)
	defer pictures.Close()
	data, err := pictures.Get(ctx, from, "the still")
	if err != nil {
		return taken{}, err
	}
	return checkJPEG(ctx, data, d.Address.String())
}

// keepStill keeps the print of the view's still. One that doesn't come is no trouble of its
// streams: what was known of it is kept, with its age.
func (t *Stage) keepStill(ctx context.Context, of site.Source) error {
	shot, err := t.fetch(ctx, of)
	if err != nil {
		if ctx.Err() == nil && engine.Ours(err) {
			return err
		}
		return ctx.Err()
	}
	now := time.Now().UTC()
	return t.Store.KeepFacts(ctx, facts.Still.New(of, "its still", now, stream.Seen{At: now, Print: shot.print}))
}

// Accept keeps the picture that a view shows now as the one that a person accepts in a light. It doesn't return
// before the picture was fetched.
func (t *Stage) Accept(ctx context.Context, of site.Source, light stream.Light, person int64, name string) error {
	shot, err := t.fetch(ctx, of)
	if err != nil {
		return err
	}
	s, err := site.Load(ctx, t.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return err
	}
	return keepAccepted(ctx, t.Store, of, light, person, name, "its still", shot, t.Engine.Grounds(ground.Picture, s, of))
}

// shown is the picture that a person sees moving, of a camera that offers no still.
func shown(ctx context.Context, s *site.Snapshot, of site.Source, data []byte) (taken, error) {
	f, _ := facts.ForStreams(s, of)
	if _, moves := f.Moves(); !moves || slices.ContainsFunc(f.Profiles, func(p stream.Profile) bool { return p.Snapshot != "" }) {
		return taken{}, trouble.UserError(of.Place + " offers a still: that is what is accepted.")
	}
	shot, err := checkJPEG(ctx, data, of.Place)
	if err != nil {
		return taken{}, trouble.UserError("What the browser sent is no picture: load the page again, and accept it once it moves.")
	}
	return shot, nil
}

func keepAccepted(ctx context.Context, st *store.Store, of site.Source, light stream.Light, person int64, name, via string, shot taken, on []ground.Ground) error {
	now := time.Now().UTC()
	if err := stream.MayAccept(shot.print, light); err != nil {
		return err
	}
	if err := st.AcceptPicture(ctx, of.Device.SiteID, of.ID, light, person, stream.Accepted{By: name, At: now, Print: shot.print, Grounds: on}, shot.data); err != nil {
		return err
	}
	return st.KeepFacts(ctx, facts.Still.New(of, via, now, stream.Seen{At: now, Print: shot.print}))
}

// ChannelStill fetches the still that a recorder holds of a channel.
func (t *Stage) ChannelStill(ctx context.Context, d store.Device, number int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, stillLimit)
	defer cancel()
	c, err := t.Accounts.Recorder(ctx, d)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	data, err := c.Still(ctx, number)
	if err != nil {
		return nil, err
	}
	shot, err := checkJPEG(ctx, data, d.Address.String())
	return shot.data, err
}
