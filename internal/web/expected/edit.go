package expected

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// listed is one row of the list as the page shows and edits it.
type listed struct {
	expected.Entry
	Told     bool // the device said what its MAC is: that isn't edited
	Editing  bool
	Recorder int64
}

// Act is where the row's form is sent.
func (l listed) Act() string {
	if l.ID == 0 {
		return "expected/row"
	}
	return fmt.Sprintf("expected/row/%d", l.ID)
}

// Goes says what taking the row off the list means.
func (l listed) Goes() string {
	if !l.First {
		return l.Place + " goes from this site, with what was read of it, its changes and proofs; the other views of its device stay. Nothing is written to it."
	}
	return l.Place + " is expected no more. Where it was never found nothing of it is left; where it was, it stays on Find and gets no account before it is on the list again. Nothing is written to it."
}

// InputText is empty where nobody said which input it is.
func (l listed) InputText() string {
	if l.Input == 0 {
		return ""
	}
	return strconv.Itoa(l.Input)
}

// AddressText is empty where the list gives none.
func (l listed) AddressText() string {
	if !l.Address.IsValid() {
		return ""
	}
	return l.Address.String()
}

// ChannelText is empty where any channel will do.
func (l listed) ChannelText() string {
	if l.Channel == 0 {
		return ""
	}
	return strconv.Itoa(l.Channel)
}

// rowsOf are the rows of the list in the page's window.
func (pg *Page) rowsOf(ctx context.Context, p *shell.Request, d *expectedData) error {
	editing, _ := strconv.ParseInt(p.URL.Query().Get("edit"), 10, 64)
	skip, _ := strconv.Atoi(p.URL.Query().Get("from"))
	skip = max(0, skip-1)
	sel := p.Selection
	sel.Expected = true
	all, total, err := pg.Store.Window(ctx, sel, store.Sort{}, skip, shell.MaxRows)
	if err != nil {
		return err
	}
	if d.Recorders, err = pg.Store.RecorderNames(ctx, p.Site.ID); err != nil {
		return err
	}
	names := map[int64]string{}
	for _, r := range d.Recorders {
		names[r.ID] = r.Place
	}
	for _, of := range all {
		l := listed{Entry: of.Entry(names), Told: of.Device.UUID != "" || of.Device.Serial != "", Editing: of.ID == editing && p.MayChange}
		if of.RecorderID != nil {
			l.Recorder = *of.RecorderID
		}
		l.Editing = l.Editing || p.Refuses(l.Act())
		d.List = append(d.List, l)
	}
	d.Window.From, d.Window.To, d.Window.Total = min(skip+1, total), skip+len(all), total
	if skip > 0 {
		d.Window.Back = p.With("from", fmt.Sprint(max(1, skip+1-shell.MaxRows)))
	}
	if d.Window.To < total {
		d.Window.Next = p.With("from", fmt.Sprint(d.Window.To+1))
	}
	return nil
}

// outside lists the addresses of rows that are in none of the networks.
func outside(p *shell.Request, rows []expected.Row) []netip.Addr {
	var networks []netplan.Network
	for _, n := range p.Networks {
		networks = append(networks, n.Core())
	}
	var all []netip.Addr
	for _, r := range rows {
		all = append(all, r.Address)
	}
	return netplan.Outside(networks, all)
}
