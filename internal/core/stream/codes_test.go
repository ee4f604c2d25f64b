package stream

import (
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// Each finding comes of one thing alone.
func TestEachFindingComesOfItsCause(t *testing.T) {
	now := moment.Now()
	for code, cause := range map[string]func(*Facts, *Wishes){
		"stream.codec": func(f *Facts, w *Wishes) { w.Codecs = []string{"H265"} },
		"stream.host":  func(f *Facts, _ *Wishes) { f.Profiles[0].Repaired, f.Profiles[0].Given = true, "192.0.2.7" },
		"stream.clear": func(_ *Facts, w *Wishes) { w.Encrypt = true },
		"stream.metadata-coded": func(f *Facts, _ *Wishes) {
			f.Profiles[0].Metadata = true
			f.Measured[0].Metadata = &Noted{Documents: 9, Coded: "gzip"}
		},
		"stream.metadata": func(f *Facts, _ *Wishes) { f.Profiles[0].Metadata = true },
	} {
		p := Profile{Token: "main", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 25, URI: "rtsp://127.40.1.11:8554/main"}
		m := Measured{Profile: "main", At: now, Codec: "H264", Width: 1280, Height: 720, FPS: 25, Frames: 125, Seconds: 5, KeyEvery: time.Second, MeanKbps: 2000}
		f := Facts{LookedAt: now, Profiles: []Profile{p}, Measured: []Measured{m}}
		w := Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}
		if slices.Contains(codes(Judge(now, f, w)), code) {
			t.Errorf("%s without its cause", code)
		}
		if cause(&f, &w); !slices.Contains(codes(Judge(now, f, w)), code) {
			t.Errorf("no %s: %q", code, codes(Judge(now, f, w)))
		}
	}
}

func TestAPictureIsAcceptedInBothLights(t *testing.T) {
	one := Accepted{}
	for _, tc := range []struct {
		accepted Pictures
		open     bool
		says     string
	}{
		{nil, true, "Nobody accepted its picture by day, nor by night: focus, view and masks."},
		{Pictures{Day: one}, true, "Nobody accepted its picture by night: focus, view and masks."},
		{Pictures{Night: one}, true, "Nobody accepted its picture by day: focus, view and masks."},
		{Pictures{Day: one, Night: one}, false, ""},
	} {
		f, open := JudgeAccepted(tc.accepted)
		if open != tc.open || f.Sentence != tc.says || open && f.Code != "stream.unaccepted" {
			t.Errorf("%v: %v %+v", tc.accepted, open, f)
		}
	}
}
