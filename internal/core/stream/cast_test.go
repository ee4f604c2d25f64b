package stream

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"

	"duskyharbor/internal/testbed/moment"
)

func group(text string) netip.Addr { return netip.MustParseAddr(text) }

func TestGroupsAreGivenOut(t *testing.T) {
	none, own := Cast{}, Cast{Group: "239.1.1.1", Port: 6000, TTL: 8}
	for name, x := range map[string]struct {
		streams   []Cast
		taken     []string
		from      string
		port, ttl int
		want      []Cast
	}{
		"no stream":            {want: []Cast{}},
		"none is set":          {streams: []Cast{none, none}, want: []Cast{{"239.192.0.1", 5004, 1, true}, {"239.192.0.2", 5004, 1, true}}},
		"each its own":         {streams: []Cast{own, none}, want: []Cast{{"239.1.1.1", 6000, 8, true}, {"239.192.0.1", 5004, 1, true}}},
		"two have the same":    {streams: []Cast{own, own}, want: []Cast{{"239.1.1.1", 6000, 8, true}, {"239.192.0.1", 6000, 8, true}}},
		"taken elsewhere":      {streams: []Cast{own, none}, taken: []string{"239.1.1.1", "239.192.0.1"}, want: []Cast{{"239.192.0.2", 6000, 8, true}, {"239.192.0.3", 5004, 1, true}}},
		"another first":        {streams: []Cast{own, none}, from: "239.7.0.1", want: []Cast{{"239.7.0.1", 6000, 8, true}, {"239.7.0.2", 5004, 1, true}}},
		"in its place":         {streams: []Cast{none, own}, from: "239.1.1.1", want: []Cast{{"239.1.1.2", 5004, 1, true}, own.on()}},
		"port and TTL":         {streams: []Cast{own}, port: 7000, ttl: 3, want: []Cast{{"239.1.1.1", 7000, 3, true}}},
		"an odd port":          {streams: []Cast{{Group: "239.1.1.1", Port: 5005}}, want: []Cast{{"239.1.1.1", 5004, 1, true}}},
		"no group of streams":  {streams: []Cast{{Group: "10.1.1.1"}, {Group: "224.0.0.251"}}, want: []Cast{{"239.192.0.1", 5004, 1, true}, {"239.192.0.2", 5004, 1, true}}},
		"at the end":           {streams: []Cast{none, none}, from: "239.255.255.254", want: []Cast{{"239.255.255.254", 5004, 1, true}, {"239.255.255.255", 5004, 1, true}}},
		"not enough to an end": {streams: []Cast{none, none}, from: "239.255.255.255"},
	} {
		var from netip.Addr
		if x.from != "" {
			from = group(x.from)
		}
		got, ok := Spread(x.streams, set(x.taken), from, x.port, x.ttl)
		if ok != (x.want != nil) || ok && !reflect.DeepEqual(got, x.want) {
			t.Errorf("%s: %v %t, want %v", name, got, ok, x.want)
		}
	}
}

func (c Cast) on() Cast { c.On = true; return c }

func set(all []string) map[string]bool {
	out := map[string]bool{}
	for _, s := range all {
		out[s] = true
	}
	return out
}

// Whatever streams have and others took: each has a group of its own that nobody took, and spread again it stays.
func TestGroupsStayTheirOwn(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 2))
	few := func() string { return fmt.Sprintf("239.192.0.%d", r.IntN(12)) }
	for range 5000 {
		streams, taken := make([]Cast, r.IntN(8)), map[string]bool{}
		for i := range streams {
			streams[i] = Cast{Group: few(), Port: r.IntN(9000), TTL: r.IntN(3), On: r.IntN(2) == 0}
		}
		for range r.IntN(6) {
			taken[few()] = true
		}
		from := netip.Addr{}
		if r.IntN(2) == 0 {
			from = group(few())
		}
		got, ok := Spread(streams, maps.Clone(taken), from, 0, 0)
		if !ok {
			t.Fatalf("%v from %v", streams, from)
		}
		seen := map[string]bool{}
		for _, c := range got {
			if seen[c.Group] || taken[c.Group] || !c.sends() || !c.On {
				t.Fatalf("%v without %v from %v: %v", streams, taken, from, got)
			}
			seen[c.Group] = true
		}
		if again, _ := Spread(got, taken, from, 0, 0); !reflect.DeepEqual(again, got) {
			t.Fatalf("%v becomes %v", got, again)
		}
	}
}

func TestMulticastIsAskedFor(t *testing.T) {
	p := func(token, encoder string, c *Cast) Profile {
		return Profile{Token: token, Name: token, Codec: "H264", Width: 1280, Height: 720, Encoder: encoder, Cast: c}
	}
	has := func(on bool) *Cast { return &Cast{Group: "239.1.1.1", Port: 5004, TTL: 1, On: on} }
	const sent = "sent to 239.1.1.1, port 5004, TTL 1"
	for name, x := range map[string]struct {
		profiles []Profile
		want     Want
		to       []string
		cant     []string
	}{
		"on":                   {[]Profile{p("main", "v", has(false))}, Want{Cast: CastOn}, []string{NoGroup + " → " + sent}, nil},
		"on already":           {[]Profile{p("main", "v", has(true))}, Want{Cast: CastOn}, nil, nil},
		"off":                  {[]Profile{p("main", "v", has(true))}, Want{Cast: CastOff}, []string{sent + " → " + NoGroup}, nil},
		"off already":          {[]Profile{p("main", "v", &Cast{})}, Want{Cast: CastOff}, nil, nil},
		"no group to send to":  {[]Profile{p("main", "v", &Cast{})}, Want{Cast: CastOn}, nil, []string{"main: it has no group to send to"}},
		"one is given":         {[]Profile{p("main", "v", &Cast{})}, Want{Cast: CastOn, Groups: map[string]Cast{"v": *has(true)}}, []string{NoGroup + " → " + sent}, nil},
		"it doesn't tell":      {[]Profile{p("main", "v", nil)}, Want{Cast: CastOff}, nil, []string{"it doesn't tell whether it sends to a group"}},
		"one encoder for two":  {[]Profile{p("main", "v", has(true)), p("sub", "v", has(true))}, Want{Cast: CastOff}, []string{sent + " → " + NoGroup}, nil},
		"and a figure as well": {[]Profile{p("main", "v", has(true))}, Want{Cast: CastOff, FPS: 5}, []string{sent + " → " + NoGroup}, []string{"it doesn't tell what its encoder can be set to"}},
	} {
		changes, cant := Asked(Facts{LookedAt: moment.Now(), Profiles: x.profiles}, Wishes{}, x.want)
		var to []string
		for _, c := range changes {
			to = append(to, c.From+" → "+c.To)
			if back, ok := c.Inverse(); !ok || back.To != c.From {
				t.Errorf("%s is taken back by %+v", name, back)
			}
			got, err := CastOf(c.Args)
			if err != nil || got.Text() != c.To {
				t.Errorf("%s: its arguments are %v: %v", name, got, err)
			}
		}
		if !reflect.DeepEqual(to, x.to) || !reflect.DeepEqual(cant, x.cant) {
			t.Errorf("%s: %q, can't %q", name, to, cant)
		}
	}
	for _, bad := range []map[string]string{{}, {"port": "5004", "ttl": "1", "on": "true", "token": "v", "profile": "m", "group": "10.0.0.1"},
		{"port": "x", "ttl": "1", "on": "true"}, {"port": "1", "ttl": "x"}, {"port": "1", "ttl": "1", "on": "x"}} {
		if c, err := CastOf(bad); err == nil {
			t.Errorf("%v is taken as %v", bad, c)
		}
	}
}
