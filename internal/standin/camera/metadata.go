package camera

import (
	"context"
	"fmt"
	"hash/fnv"
	"strings"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// describeEvery is how many frames lie between two documents of metadata.
const describeEvery = 3

// describes says whether a profile's stream carries what the camera's analytics see.
func (c *Camera) describes(p profile) bool {
	return !c.cfg.Quiet && !c.cfg.NoAnalytics && !c.cfg.Manners.Media1 && !p.sub && c.sees(p.source)
}

// describe sends what the analytics see, a document every few frames, until ctx ends (ONVIF
// Streaming, 5.1.2.1.1).
func (s *rtspSession) describe(ctx context.Context, t *track) {
	line := s.cam.line
	n := (line.frame(time.Now())/describeEvery + 1) * describeEvery
	base := uint32(time.Now().UnixNano() >> 12)
	for ; ; n += describeEvery {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(line.when(n))):
		}
		walk, index := line.clip(n)
		seen := s.cam.scene(s.profile.source).Moving(walk, time.Duration(index)*time.Second/footage.FPS)
		for i := range seen { // each walk is another object's
			seen[i].Object = fmt.Sprintf("%s %d", seen[i].Object, n-index)
		}
		// The time is the picture's, also of one that is told of late.
		doc := []byte(metadataXML(s.cam.Now().Add(-time.Since(line.when(n))), seen))
		stamp := base + uint32(n*90000/footage.FPS)
		var all [][]byte
		for at := 0; at < len(doc); at += 1400 {
			end := min(at+1400, len(doc))
			pkt := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 107, SSRC: ssrc + 2, SequenceNumber: t.next(), Timestamp: stamp, Marker: end == len(doc)}, Payload: doc[at:end]}
			raw, err := pkt.Marshal()
			if err != nil {
				return
			}
			all = append(all, raw)
		}
		if !s.sendAll(t, all, stamp) {
			return
		}
	}
}

// metadataXML is one document: a frame with the objects in it (ONVIF Analytics, 5.1).
func metadataXML(at time.Time, seen []scene.Observation) string {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?><tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:VideoAnalytics><tt:Frame UtcTime="` + at.UTC().Format("2006-01-02T15:04:05.000Z") + `">`)
	for _, o := range seen {
		id := fnv.New32()
		_, _ = id.Write([]byte(o.Object))
		x := o.Box
		fmt.Fprintf(&b, `<tt:Object ObjectId="%d"><tt:Appearance><tt:Shape><tt:BoundingBox left="%.4f" top="%.4f" right="%.4f" bottom="%.4f"/><tt:CenterOfGravity x="%.4f" y="%.4f"/></tt:Shape><tt:Class><tt:Type Likelihood="%.2f">%s</tt:Type></tt:Class></tt:Appearance></tt:Object>`,
			id.Sum32()%100000, x.Left, x.Top, x.Right, x.Bottom, (x.Left+x.Right)/2, (x.Top+x.Bottom)/2, o.Score, wire.Esc(o.Class))
	}
	b.WriteString("</tt:Frame></tt:VideoAnalytics></tt:MetadataStream>")
	return b.String()
}
