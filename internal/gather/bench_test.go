package gather

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pion/rtp"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/testbed/moment"
)

// The load that is measured: so many cameras, each with so many objects in so many pictures a second.
const (
	manyCameras = 50
	manyObjects = 20
	manyFrames  = 10
)

// crowd is a document of a picture with many objects in it.
func crowd(at time.Time, n int) []byte {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?><tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:VideoAnalytics><tt:Frame UtcTime="` + at.UTC().Format("2006-01-02T15:04:05.000Z") + `">`)
	for i := range manyObjects {
		x := float64((i*97+n*3)%180)/100 - 0.9
		fmt.Fprintf(&b, `<tt:Object ObjectId="%d"><tt:Appearance><tt:Shape><tt:BoundingBox left="%.4f" top="0.5000" right="%.4f" bottom="0.1000"/><tt:CenterOfGravity x="%.4f" y="0.3000"/></tt:Shape><tt:Class><tt:Type Likelihood="0.90">Human</tt:Type></tt:Class></tt:Appearance></tt:Object>`, i, x, x+0.1, x+0.05)
	}
	b.WriteString("</tt:Frame></tt:VideoAnalytics></tt:MetadataStream>")
	return []byte(b.String())
}

// packets of a document, as a stream carries them.
func packets(t testing.TB, doc []byte, seq *uint16) (out [][]byte) {
	for at := 0; at < len(doc); at += 1400 {
		end := min(at+1400, len(doc))
		*seq++
		p := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 107, SequenceNumber: *seq, Marker: end == len(doc)}, Payload: doc[at:end]}
		raw, err := p.Marshal()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, raw)
	}
	return out
}

// listener is one view's part of the load.
type listener struct {
	id   int64
	seq  uint16
	docs rtsp.Documents
	b    batch
}

func listeners(t testing.TB, st *store.Store) (all []*listener) {
	ctx := context.Background()
	siteID, err := st.AddSite(ctx, store.Site{Name: "Quay", Zone: "UTC", ZonePosix: "UTC0"})
	if err != nil {
		t.Fatal(err)
	}
	var ids []int64
	for i := range manyCameras {
		d, err := st.AddDevice(ctx, store.Device{SiteID: siteID, Kind: identity.Camera, Place: fmt.Sprint("Camera ", i)})
		if err != nil {
			t.Fatal(err)
		}
		of, err := st.Source(ctx, store.Target{Device: d})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, of.ID)
	}
	if err := st.SetGathering(ctx, siteID, ids, true); err != nil {
		t.Fatal(err)
	}
	if got, err := st.ClaimGatherings(ctx, "load", manyCameras, time.Hour); err != nil || len(got) != manyCameras {
		t.Fatal(len(got), err)
	}
	for _, id := range ids {
		all = append(all, &listener{id: id, docs: rtsp.Documents{Track: rtsp.Track{Payload: 107}, Most: onvif.MaxMetadata},
			b: batch{tracks: map[string]int{}, states: map[string]map[string]topic.State{}, look: func([]onvif.SeenFrame, time.Time) {}}})
	}
	return all
}

// arrival is a packet, and when it comes.
type arrival struct {
	at  time.Time
	raw []byte
}

// sent is two seconds' packets of a camera.
func (l *listener) sent(t testing.TB, from time.Time) (out []arrival) {
	for f := range 2 * manyFrames {
		at := from.Add(time.Duration(f) * time.Second / manyFrames)
		for _, raw := range packets(t, crowd(at, f), &l.seq) {
			out = append(out, arrival{at, raw})
		}
	}
	return out
}

func (l *listener) hear(all []arrival) {
	for _, a := range all {
		l.b.add(&l.docs, a.raw, a.at)
	}
}

// BenchmarkGathered is two seconds of fifty cameras: their documents put together, parsed and kept. Beside it what a bare
// CopyFrom takes of the same rows: copied/s over objects/s is how far from that it is.
func BenchmarkGathered(b *testing.B) {
	st := testbed.Store(b)
	all := listeners(b, st)
	begin := moment.Now()
	var copying time.Duration
	objects, lost := 0, 0
	b.ResetTimer()
	for i := range b.N {
		at := begin.Add(time.Duration(2*i) * time.Second)
		for _, l := range all {
			b.StopTimer()
			sent := l.sent(b, at)
			b.StartTimer()
			l.hear(sent)
			l.b.got.Began, l.b.got.Until = begin, at.Add(2*time.Second)
			got := l.b.got
			if err := st.KeepGathering(context.Background(), "load", l.id, got, time.Hour); err != nil {
				b.Fatal(err)
			}
			objects, lost = objects+got.Objects, lost+got.Lost+got.Without
			l.b.got, l.b.tracks, l.b.points = store.Gathered{}, map[string]int{}, 0
			b.StopTimer()
			copying += bare(b, st, l.id, got)
			b.StartTimer()
		}
	}
	b.StopTimer()
	if want := b.N * 2 * manyCameras * manyFrames * manyObjects; objects != want || lost != 0 {
		b.Errorf("%d objects of %d, %d lost", objects, want, lost)
	}
	b.ReportMetric(float64(objects)/b.Elapsed().Seconds(), "objects/s")
	b.ReportMetric(float64(objects)/copying.Seconds(), "copied/s")
}

// bare copies the rows of what was gathered, and no more.
func bare(b *testing.B, st *store.Store, source int64, got store.Gathered) time.Duration {
	var rows [][]any
	for _, p := range got.Pieces {
		at := func(d time.Duration) time.Time { return time.Unix(0, int64(d)).UTC() }
		rows = append(rows, []any{source, at(p.Points[0].At), at(p.Points[len(p.Points)-1].At), p.Object, p.Class, scene.Pack(p.Points)})
	}
	began := time.Now()
	if _, err := st.Pool.CopyFrom(context.Background(), pgx.Identifier{"seen"}, []string{"source_id", "began_at", "ended_at", "object", "class", "points"}, pgx.CopyFromRows(rows)); err != nil {
		b.Fatal(err)
	}
	return time.Since(began)
}

// Ten minutes of fifty cameras, each with twenty objects in ten pictures a second, leave the memory of a server as it was, and
// nothing is dropped; a short form is two seconds of them.
func TestManyCamerasAreGathered(t *testing.T) {
	t.Parallel()
	seconds := 2
	if os.Getenv("GATHER_MINUTES") != "" {
		seconds = 600
	}
	st := testbed.Store(t)
	all := listeners(t, st)
	begin := moment.Now()
	heap := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	var early uint64
	objects := 0
	for s := 0; s < seconds; s += 2 {
		at := begin.Add(time.Duration(s) * time.Second)
		for _, l := range all {
			l.hear(l.sent(t, at))
			l.b.got.Began, l.b.got.Until = begin, at.Add(2*time.Second)
			if l.b.got.Lost+l.b.got.Without > 0 {
				t.Fatalf("%d documents lost, %d objects left out", l.b.got.Lost, l.b.got.Without)
			}
			objects += l.b.got.Objects
			if err := st.KeepGathering(t.Context(), "load", l.id, l.b.got, time.Hour); err != nil {
				t.Fatal(err)
			}
			l.b.got, l.b.tracks, l.b.points = store.Gathered{}, map[string]int{}, 0
		}
		if s == seconds/10/2*2 {
			early = heap()
		}
	}
	if want := seconds * manyCameras * manyFrames * manyObjects; objects != want {
		t.Errorf("%d objects of %d", objects, want)
	}
	if seconds == 600 {
		late := heap()
		t.Logf("heap %d kB after a minute, %d kB after ten", early>>10, late>>10)
		if late > early+early/2+8<<20 {
			t.Errorf("the heap grows from %d kB to %d kB", early>>10, late>>10)
		}
	}
}
