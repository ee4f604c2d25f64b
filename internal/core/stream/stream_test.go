package stream

import (
	"encoding/hex"
	"errors"
	"net/netip"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

func unhex(s string) []byte {
	b, err := hex.DecodeString(s)
	if err != nil {
		panic(err)
	}
	return b
}

// Parameter sets written by x264 for pictures of known size.
var knownSPS = []struct {
	hex  string
	w, h int
}{
	{"6764001facd9405005bb016a02020280000003008000001e478c18cb", 1280, 720},
	{"6742c01e9a740a02ff95", 0, 0},
}

func TestParseSPS(t *testing.T) {
	s, err := ParseSPS(unhex(knownSPS[0].hex))
	if err != nil || s.Width != 1280 || s.Height != 720 || s.Profile != 100 {
		t.Errorf("%+v %v", s, err)
	}
	for _, bad := range [][]byte{nil, {0x67}, {0x68, 1, 2, 3}, {0x67, 0, 0, 0, 0, 0, 0}, make([]byte, 5000)} {
		if _, err := ParseSPS(bad); !errors.Is(err, ErrSPS) {
			t.Errorf("ParseSPS(%x…) = %v, want ErrSPS", bad[:min(len(bad), 4)], err)
		}
	}
	// Cut anywhere before its picture size, it is refused and never read past.
	whole := unhex(knownSPS[0].hex)
	for n := range 8 {
		if _, err := ParseSPS(whole[:n]); err == nil {
			t.Errorf("the first %d bytes pass", n)
		}
	}
}

func FuzzParseSPS(f *testing.F) {
	for _, k := range knownSPS {
		f.Add(unhex(k.hex))
	}
	f.Fuzz(func(t *testing.T, nal []byte) {
		s, err := ParseSPS(nal)
		if err == nil && (s.Width <= 0 || s.Height <= 0 || s.Width > 16384 || s.Height > 32768) {
			t.Errorf("%x gives %d × %d", nal, s.Width, s.Height)
		}
	})
}

func TestRoles(t *testing.T) {
	ps := []Profile{{Token: "tiny", Codec: "H264", Width: 320, Height: 180},
		{Token: "sub", Codec: "H264", Width: 640, Height: 360}, {Token: "main", Codec: "H265", Width: 3840,
			Height: 2160}, {Token: "mid", Codec: "H264", Width: 1280, Height: 720}}
	for _, tc := range []struct {
		codecs       []string
		record, view string
	}{{nil, "main", "sub"}, {[]string{"H264"}, "mid", "sub"}, {[]string{"H265"}, "main", ""}, {[]string{"JPEG"}, "", ""}} {
		r, v := Roles(ps, tc.codecs)
		if r != tc.record || v != tc.view {
			t.Errorf("%v: %s %s, want %s %s", tc.codecs, r, v, tc.record, tc.view)
		}
	}
}

func TestRepairHost(t *testing.T) {
	reached := netip.MustParseAddr("127.40.2.24")
	for _, tc := range []struct {
		given, want string
		repaired    bool
	}{
		{"rtsp://127.40.2.24:8554/main?x=1", "rtsp://127.40.2.24:8554/main?x=1", false},
		{"rtsp://10.9.9.9:8554/main?x=1", "rtsp://127.40.2.24:8554/main?x=1", true},
		{"rtsp://camera.local/main", "rtsp://127.40.2.24/main", true},
		{"http://u:p@127.40.2.24:8080/snap", "http://127.40.2.24:8080/snap", false},
		{"http://[::1]:8080/snap", "http://127.40.2.24:8080/snap", true},
	} {
		got, repaired, err := RepairHost(tc.given, reached)
		if err != nil || got != tc.want || repaired != tc.repaired {
			t.Errorf("RepairHost(%q) = %q, %v, %v", tc.given, got, repaired, err)
		}
	}
	for _, bad := range []string{"", "main", "://", "rtsp:main", string(make([]byte, 4000))} {
		if got, _, err := RepairHost(bad, reached); err == nil {
			t.Errorf("RepairHost(%.20q) = %q", bad, got)
		}
	}
}

func TestJudge(t *testing.T) {
	now := moment.Now()
	p := Profile{Token: "main", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 15, Kbps: 2048}
	good := Measured{Profile: "main", At: now, Seconds: 4, Codec: "H264", Width: 1280, Height: 720, FPS: 14.8,
		MeanKbps: 300, KeyEvery: time.Second}
	with := func(change func(*Measured)) Facts {
		m := good
		change(&m)
		return Facts{LookedAt: now, Profiles: []Profile{p}, Measured: []Measured{m}}
	}
	for _, tc := range []struct {
		name string
		f    Facts
		code string
	}{
		{"as declared", with(func(*Measured) {}), ""},
		{"size", with(func(m *Measured) { m.Width, m.Height = 640, 360 }), "stream.differs"},
		{"codec", with(func(m *Measured) { m.Codec = "H265" }), "stream.differs"},
		{"rate", with(func(m *Measured) { m.FPS = 8 }), "stream.differs"},
		{"too much", with(func(m *Measured) { m.MeanKbps = 9000 }), "stream.differs"},
		{"key frames", with(func(m *Measured) { m.KeyEvery = 4 * time.Second }), "stream.key-frames"},
		{"loss", with(func(m *Measured) { m.Lost = 3 }), "stream.loss"},
		{"no picture", with(func(m *Measured) { m.Trouble = "It stalled." }), "stream.no-picture"},
		{"unread", Facts{LookedAt: now, Trouble: "No answer."}, "stream.unread"},
		{"none", Facts{LookedAt: now}, "stream.none"},
	} {
		got := Judge(now, tc.f, Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}})
		if tc.code == "" {
			if len(got) != 0 {
				t.Errorf("%s: %+v", tc.name, got)
			}
			continue
		}
		if len(got) != 1 || got[0].Code != tc.code || got[0].Severity == finding.Note || got[0].WayOut == "" {
			t.Errorf("%s: %+v, want %s", tc.name, got, tc.code)
		}
	}
	only265 := Facts{LookedAt: now, Profiles: []Profile{{Token: "x", Codec: "H265", Width: 640, Height: 360}}}
	if got := Judge(now, only265, Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}); len(got) != 1 || got[0].Words != "H.265" {
		t.Errorf("%+v", got)
	}
}

func TestOfView(t *testing.T) {
	all := []Profile{{Token: "p1", Source: "in1"}, {Token: "p1s", Source: "in1"}, {Token: "p3", Source: "in3"}}
	for video, want := range map[string][2]int{"": {3, 0}, "in1": {2, 1}, "in3": {1, 2}, "in4": {0, 3}} {
		own, others := OfSource(all, video)
		if len(own) != want[0] || len(others) != want[1] {
			t.Errorf("%q: %v and %v", video, own, others)
		}
	}
	got := Judge(moment.Now(), Facts{LookedAt: moment.Now(), Elsewhere: 3}, Wishes{})
	if len(got) != 1 || got[0].Code != "stream.gone" {
		t.Errorf("%+v", got)
	}
}
