package recorder

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
)

// Whatever identifiers a recorder tells, each recording has a number of its own, one that it was given
// from here keeps it, and the result doesn't hang on the order in which they are told.
func TestRecordingsAreNumberedOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for round := range 300 {
		var all []onvif.Recording
		given := map[string]int{}
		used := map[int]bool{}
		for i := range r.IntN(12) {
			x := onvif.Recording{Token: fmt.Sprintf("R%02d", i), SourceID: []string{"", "theirs", ours + "number=-1", ours + "number=99999", ours + "%zz", ours + "number=x"}[r.IntN(6)]}
			if n := 1 + r.IntN(15); r.IntN(2) == 0 && !used[n] {
				x.SourceID, given[x.Token], used[n] = identifier(n, "main & more", "set 1"), n, true
			}
			all = append(all, x)
		}
		first := number(append([]onvif.Recording{}, all...), nil, nil)
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		again := number(all, nil, nil)
		seen := map[int]bool{}
		for i, h := range first {
			if h.number < 1 || seen[h.number] || again[i].number != h.number || again[i].rec.Token != h.rec.Token {
				t.Fatalf("round %d: %+v\n%+v", round, first, again)
			}
			seen[h.number] = true
			if n, ok := given[h.rec.Token]; ok && (n != h.number || h.marks.Get("profile") != "main & more" || h.label != "set 1") {
				t.Fatalf("round %d: %s is %d, and was given %d: %+v", round, h.rec.Token, h.number, n, h.marks)
			}
		}
	}
}

// How a job stands is told as a channel's state: what isn't known to be well isn't well.
func TestHowAJobStands(t *testing.T) {
	full := held{number: 3, rec: onvif.Recording{Name: "Slipway"}, job: onvif.Job{Token: "J", Active: true}, from: onvif.Receiver{Token: "R", URI: "rtsp://192.0.2.5/channel/3", Username: "install", Connects: true}}
	for _, tc := range []struct {
		change func(*held)
		s      onvif.JobState
		state  string
	}{
		{nil, onvif.JobState{State: "Active"}, channel.Receiving},
		{nil, onvif.JobState{State: "Idle"}, channel.Connecting},
		{nil, onvif.JobState{State: "Error", Trouble: "RTSP 401 Unauthorized"}, channel.Refused},
		{nil, onvif.JobState{State: "Error", Trouble: "no route"}, channel.Lost},
		{nil, onvif.JobState{State: "Splendid"}, channel.Lost},
		{nil, onvif.JobState{}, channel.Lost},
		{func(h *held) { h.from.Connects = false }, onvif.JobState{State: "Active"}, channel.Paused},
		{func(h *held) { h.job.Active = false }, onvif.JobState{State: "Active"}, channel.Paused},
		{func(h *held) { h.job = onvif.Job{} }, onvif.JobState{State: "Active"}, channel.Lost},
	} {
		h := full
		if tc.change != nil {
			tc.change(&h)
		}
		s := h.slot(tc.s, time.Now())
		if s.State != tc.state || s.Paused != (tc.state == channel.Paused) || s.Address != "192.0.2.5" || s.Port != 554 || s.Number != 3 || s.Account != "install" {
			t.Errorf("%+v: %+v, want %s", tc.s, s, tc.state)
		}
	}
}

// A camera's password is sent over TLS alone, and isn't in what is told of a refusal.
func TestAReceiversPasswordTravelsOverTLSAlone(t *testing.T) {
	host := (&dial.Dialer{Within: netip.MustParsePrefix("127.0.0.0/8")}).At(netip.MustParseAddr("127.0.0.1"))
	c, err := onvif.New(host, "http://127.0.0.1:1/onvif/device_service", onvif.Login{})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, err = c.CreateReceiver(t.Context(), map[string]string{onvif.ReceiverNS: "http://127.0.0.1:1/onvif"}, onvif.Receiver{URI: "rtsp://127.0.0.1/x", Connects: true}, onvif.ReceiverLogin{Username: "otter", Password: "se cret/1"})
	if !errors.Is(err, dial.ErrRefused) || !strings.Contains(err.Error(), "isn't sent in clear") || strings.Contains(err.Error(), "cret") {
		t.Errorf("%v", err)
	}
	if _, err := c.CreateReceiver(t.Context(), nil, onvif.Receiver{URI: "http://127.0.0.1/x"}, onvif.ReceiverLogin{}); err == nil || errors.Is(err, dial.ErrUnreachable) {
		t.Errorf("an address that is no RTSP address: %v", err)
	}
}
