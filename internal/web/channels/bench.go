package channels

import (
	"fmt"
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// benchView is the bench sheet of a recorder that is set up by hand.
type benchView struct {
	channel.Bench
	Sheets  []benchSheet
	Waiting []string // sources for which no sheet can be written yet, with the reason
}

// Codec says whether it takes a codec.
func (b benchView) Codec(name string) bool { return slices.Contains(b.Codecs, name) }

// SheetDefaults is what is known of a recorder that is set up by hand, or what a form of one begins with.
func (d channelsData) SheetDefaults() channel.Bench {
	if d.Bench != nil {
		return d.Bench.Bench
	}
	return channel.Bench{Channels: 4, Port: 80}
}

type benchSheet struct {
	Source  int64
	Name    string
	Channel int
	Steps   []channel.BenchStep
}

// bench writes the sheet of a recorder that is set up by hand: a source that is planned for it and
// isn't ticked takes the next free channel.
func (pg *Page) bench(s *site.Snapshot, rec store.Device, rows []shell.Row, status *channel.Recorder) *benchView {
	if rec.Bench == nil {
		return nil
	}
	b := &benchView{Bench: *rec.Bench}
	taken := map[int]bool{}
	if status != nil {
		for _, slot := range status.Slots {
			taken[slot.Number] = true
		}
	}
	wished := map[int]bool{} // by those that are still to be typed
	for _, r := range rows {
		if holder, slot, ok := s.HolderOf(r.Source); ok && holder.ID == rec.ID && slot == nil {
			wished[r.Source.Channel] = true
		}
	}
	for _, r := range rows {
		holder, slot, ok := s.HolderOf(r.Source)
		if !ok || holder.ID != rec.ID || slot != nil {
			continue
		}
		e, why := channels.EntryOf(s, r.Source, *rec.Bench)
		if n := r.Source.Channel; n > 0 && n <= rec.Bench.Channels && !taken[n] { // as the list has it
			e.Channel, taken[n] = n, true
		}
		for n := 1; n <= rec.Bench.Channels && e.Channel == 0; n++ {
			if !taken[n] && !wished[n] {
				e.Channel, taken[n] = n, true
			}
		}
		if why == "" && e.Channel == 0 {
			why = fmt.Sprintf("all %d channels are taken", rec.Bench.Channels)
		}
		if why != "" {
			b.Waiting = append(b.Waiting, r.Place+": "+why)
			continue
		}
		account, _ := facts.Account.Of(s, r.Device.ID)
		seen, _ := facts.Seen.Of(s, r.Device.ID)
		b.Sheets = append(b.Sheets, benchSheet{r.ID, r.Place, e.Channel,
			channel.BenchSheet(*rec.Bench, shell.AddressText(rec.Address), e, s.Sets[account.SetID].Username, account.SetID, seen.Service)})
	}
	return b
}
