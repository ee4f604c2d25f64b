package recorder

import (
	"fmt"
	"net/http"
	"slices"
)

// status tells all of the recorder at once.
func (r *Recorder) status(w http.ResponseWriter, _ *http.Request) {
	r.mu.Lock()
	slots := make([]slot, 0, len(r.mem.Channels))
	storage, whole := r.storage()
	for n, p := range r.mem.Channels {
		s := r.live[n].slot()
		s.Number, s.Name, s.Address, s.Profile, s.Account, s.Paused, s.Label = n, p.Name, p.Address, p.Profile, p.Username, p.Paused, p.Label
		s.Serves = fmt.Sprintf("rtsp://%s:%d/channel/%d", r.cfg.Address, StreamPort, n)
		s.From = p.URI
		s.Way, s.Recording = p.way(), p.Ledger.slot(p.keeps(), r.hears(p), whole)
		s.Recording.Unlicensed = !r.records(n)
		slots = append(slots, s)
	}
	ports := make([]port, 0, len(r.ports))
	for n, p := range r.ports {
		p.Channel = r.mem.Bound[n]
		ports = append(ports, p)
	}
	for n := 1; n <= r.cfg.Ports; n++ {
		if _, plugged := r.cfg.Plugged[n]; !plugged {
			ports = append(ports, port{Number: n})
		}
	}
	burns, analog, limits, models := r.mem.Burns, r.analog(), r.limits(), r.list()
	r.mu.Unlock()
	slices.SortFunc(ports, func(a, b port) int { return a.Number - b.Number })
	hands := ""
	if r.cfg.HandsOut.IsValid() {
		hands = r.cfg.HandsOut.String()
	}
	slices.SortFunc(slots, func(a, b slot) int { return a.Number - b.Number })
	reply(w, map[string]any{"name": r.cfg.Place, "clock": r.Now().UTC(), "limits": limits, "analog": analog, "channels": slots, "ntp": r.ntp,
		"ports": ports, "hands_out": hands, "relays": len(r.cfg.Plugged) > 0, "burns": burns, "dates": r.cfg.Dates, "times": r.cfg.Times, "sets_time": true, "zone": r.cfg.Zone, "storage": storage, "models": models,
		"by_plan": r.cfg.ByPlan})
}
