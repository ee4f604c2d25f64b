package clock

import (
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

// Whatever its offset, a clock is told to follow the site's wish, once; and what hinders that is said.
func TestAClockFollowsTheSitesWish(t *testing.T) {
	const zone = "WET0WEST,M3.5.0/1,M10.5.0"
	ref := Reference{ID: 5, Name: "Terminal recorder", Why: Holds, Address: "127.40.2.5"}
	inStep := Offset{-100 * time.Millisecond, 900 * time.Millisecond}
	reading := func(change func(*Reading)) *Reading {
		r := &Reading{At: now, Offset: inStep, Zone: zone, Daylight: true}
		change(r)
		return r
	}
	for _, x := range []struct {
		name string
		r    *Reading
		ref  Reference
		w    Wishes
		to   []string
		why  string
	}{
		{"not read", nil, ref, Wishes{Zone: zone}, nil, "its clock wasn't read yet"},
		{"by hand, in step", reading(func(*Reading) {}), ref, Wishes{Zone: zone}, []string{"NTP 127.40.2.5"}, ""},
		{"by hand, an hour off", reading(func(r *Reading) { r.Offset = Offset{time.Hour, time.Hour + time.Second} }), ref, Wishes{Zone: zone}, []string{"NTP 127.40.2.5"}, ""},
		{"another zone too", reading(func(r *Reading) { r.Zone = "CET-1CEST,M3.5.0,M10.5.0/3" }), ref, Wishes{Zone: zone}, []string{zone + " · daylight on", "NTP 127.40.2.5"}, ""},
		{"daylight rule off", reading(func(r *Reading) { r.Daylight = false }), ref, Wishes{Zone: zone}, []string{zone + " · daylight on", "NTP 127.40.2.5"}, ""},
		{"no zone wished", reading(func(r *Reading) { r.Zone = "CET-1" }), ref, Wishes{}, []string{"NTP 127.40.2.5"}, ""},
		{"as wished", reading(func(r *Reading) { r.NTP, r.Servers = true, []string{"127.40.2.5"} }), ref, Wishes{Zone: zone}, nil, ""},
		{"another server", reading(func(r *Reading) { r.NTP, r.Servers = true, []string{"127.40.2.9"} }), ref, Wishes{Zone: zone}, []string{"NTP 127.40.2.5"}, ""},
		{"two servers", reading(func(r *Reading) { r.NTP, r.Servers = true, []string{"127.40.2.5", "127.40.2.9"} }), ref, Wishes{Zone: zone}, []string{"NTP 127.40.2.5"}, ""},
		{"its network's", reading(func(r *Reading) { r.NTP, r.FromDHCP, r.Servers = true, true, []string{"127.40.2.9"} }), ref, Wishes{Zone: zone}, []string{"NTP 127.40.2.5"}, ""},
		{"its network's, as wished", reading(func(r *Reading) { r.NTP, r.FromDHCP, r.Servers = true, true, []string{"127.40.2.9"} }), ref, Wishes{Zone: zone, Source: DHCP}, nil, ""},
		{"a named one", reading(func(*Reading) {}), ref, Wishes{Zone: zone, Source: "127.40.2.9"}, []string{"NTP 127.40.2.9"}, ""},
		{"a recorder that serves none", reading(func(*Reading) {}), Reference{Name: "Quay recorder", Why: Planned}, Wishes{Zone: zone}, nil, "Quay recorder serves no time that it could follow"},
		{"no recorder", reading(func(*Reading) {}), Reference{Name: "this server", Why: Nobody}, Wishes{Zone: zone}, nil, "this server serves no time that it could follow"},
		{"no recorder, a named one", reading(func(*Reading) {}), Reference{Name: "this server", Why: Nobody}, Wishes{Zone: zone, Source: "127.40.2.9"}, []string{"NTP 127.40.2.9"}, ""},
	} {
		all, why := Follow(now, Facts{Camera: x.r, Reference: x.ref}, x.w)
		var to []string
		for _, c := range all {
			to = append(to, c.To)
			if back, ok := c.Inverse(); c.Undo.Kind != finding.Irreversible && (!ok || c.Undo.Kind == finding.Reversible && back.To != c.From) {
				t.Errorf("%s: %s → %s is taken back as %+v", x.name, c.From, c.To, back)
			}
		}
		if !slices.Equal(to, x.to) || why != x.why {
			t.Errorf("%s: %q %q, want %q %q", x.name, to, why, x.to, x.why)
		}
	}
	// A change of a clock that takes its network's server goes back to that.
	all, _ := Follow(now, Facts{Camera: reading(func(r *Reading) { r.NTP, r.FromDHCP = true, true }), Reference: ref}, Wishes{})
	if back, ok := all[0].Inverse(); !ok || back.Args["server"] != DHCP || back.To != "NTP from DHCP" {
		t.Errorf("%+v", back)
	}
	if got := reading(func(r *Reading) { r.NTP, r.FromDHCP, r.Servers = true, true, []string{"127.40.2.9"} }).SourceShown(); got != "NTP from DHCP (127.40.2.9)" {
		t.Errorf("%q", got)
	}
}
