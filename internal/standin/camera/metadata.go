package camera

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"fmt"
	"hash/fnv"
	"image"
	"image/jpeg"
	"slices"
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
	return c.cfg.Fed || !c.cfg.Quiet && !c.cfg.NoAnalytics && !c.cfg.Manners.Media1 && !c.habits().NoBoxes && !p.sub && c.sees(p.source)
}

// describe sends what the analytics see, a document every few frames, until ctx ends (ONVIF
// Streaming, 5.1.2.1.1).
func (s *rtspSession) describe(ctx context.Context, t *track) {
	if s.cam.cfg.Fed {
		s.relate(ctx, t)
		return
	}
	line := s.cam.line
	n := (line.frame(time.Now())/describeEvery + 1) * describeEvery
	base := uint32(time.Now().UnixNano() >> 12)
	told, leave := s.cam.events.overhear()
	sent := map[string]int64{} // when a picture of an object was sent, by frame
	defer leave()
	for ; ; n += describeEvery {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(line.when(n))):
		}
		// The time is the picture's, also of one that is told of late.
		doc := []byte(metadataXML(s.cam.Now().Add(-time.Since(line.when(n))), s.cam.seen(s.profile.source, n), s.cam.looksOf(s.profile.source, n, sent), told()))
		if s.cam.habits().Zips {
			doc = zipped(doc)
		}
		if !s.sendDocument(t, doc, base+uint32(n*90000/footage.FPS)) {
			return
		}
	}
}

// sendDocument sends one document of metadata, in as many packets as it takes.
func (s *rtspSession) sendDocument(t *track, doc []byte, stamp uint32) bool {
	var all [][]byte
	for at := 0; at < len(doc); at += 1400 {
		end := min(at+1400, len(doc))
		pkt := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 107, SSRC: ssrc + 2, SequenceNumber: t.next(), Timestamp: stamp, Marker: end == len(doc)}, Payload: doc[at:end]}
		raw, err := pkt.Marshal()
		if err != nil {
			return false
		}
		all = append(all, raw)
	}
	return s.sendAll(t, all, stamp)
}

// zipped is a document as one gzip member.
func zipped(doc []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(doc)
	_ = w.Close()
	return b.Bytes()
}

// looksOf is dress, and once of each object its picture, as soon as it is all there.
func (c *Camera) looksOf(source int, n int64, sent map[string]int64) func(o scene.Observation) string {
	dress := c.dress(source)
	if !c.habits().Crops {
		return dress
	}
	for object, at := range sent {
		if n-at > 10*int64(footage.Length/time.Second)*footage.FPS {
			delete(sent, object)
		}
	}
	return func(o scene.Observation) string {
		_, before := sent[o.Object]
		in := o.Box.Left > -1 && o.Box.Right < 1 && o.Box.Bottom > -1 && o.Box.Top < 1
		if before || !in {
			return dress(o)
		}
		sent[o.Object] = n
		walk, index := c.line.clip(n)
		l, _ := c.look(source)
		img := c.scene(source).DrawLook(walk, time.Duration(index)*time.Second/footage.FPS, cropWide, cropHigh, l)
		px := func(v float64, of int) int { return int((v + 1) / 2 * float64(of)) }
		part := img.SubImage(image.Rect(px(o.Box.Left, cropWide), px(-o.Box.Top, cropHigh), px(o.Box.Right, cropWide)+1, px(-o.Box.Bottom, cropHigh)+1))
		var file bytes.Buffer
		if jpeg.Encode(&file, part, &jpeg.Options{Quality: 75}) != nil {
			return dress(o)
		}
		return dress(o) + pictureXML(file.Bytes())
	}
}

// pictureXML is an object's picture within its appearance; empty where there is none.
func pictureXML(jpeg []byte) string {
	if len(jpeg) == 0 {
		return ""
	}
	return "<tt:Image>" + base64.StdEncoding.EncodeToString(jpeg) + "</tt:Image>"
}

// Size of the picture that crops are cut from.
const cropWide, cropHigh = 640, 360

// dress is what the analytics say of how an object of a source's walk looks, as XML within its appearance.
func (c *Camera) dress(source int) func(o scene.Observation) string {
	if !c.habits().Dress {
		return func(scene.Observation) string { return "" }
	}
	of := c.scene(source)
	return func(o scene.Observation) (out string) {
		name, _, _ := strings.Cut(o.Object, " ")
		if rgb, ok := of.Coat(name); ok && !of.Night { // by its lamp it sees greys
			r, g, b := float64(rgb>>16), float64(rgb>>8&255), float64(rgb&255)
			y := 0.299*r + 0.587*g + 0.114*b // ITU-R BT.601
			out = fmt.Sprintf(`<tt:Color><tt:ColorCluster><tt:Color X="%.1f" Y="%.1f" Z="%.1f"/><tt:Weight>0.6</tt:Weight></tt:ColorCluster></tt:Color>`, y, 128+(b-y)*0.564, 128+(r-y)*0.713)
		}
		if o.Class == c.habits().word("Human") {
			has := func(x scene.Carried) bool { return slices.Contains(o.Traits.Has, x) }
			out += fmt.Sprintf(`<fc:HumanFace xmlns:fc="http://www.onvif.org/ver20/analytics/humanface"><fc:Accessory><fc:Hat><fc:Wear>%t</fc:Wear></fc:Hat><fc:Mask><fc:Wear>%t</fc:Wear></fc:Mask></fc:Accessory></fc:HumanFace>`+
				`<bd:HumanBody xmlns:bd="http://www.onvif.org/ver20/analytics/humanbody"><bd:Belonging><bd:Bag>%t</bd:Bag></bd:Belonging></bd:HumanBody>`, has(scene.Hat), has(scene.FaceCover), has(scene.Bag))
		}
		return out
	}
}

// seen is what the analytics say of a picture of a source, in their own way.
func (c *Camera) seen(source int, n int64) []scene.Observation {
	does := c.habits()
	n -= int64(does.Late * footage.FPS / time.Second)
	walk, index := c.line.clip(n)
	seen := c.scene(source).Moving(walk, time.Duration(index)*time.Second/footage.FPS)
	for i := range seen {
		o := &seen[i]
		o.Box = does.looks(o.Box)
		walked := n - index // each walk is another object's
		if does.LosesIDs > 0 {
			walked = n / int64(does.LosesIDs*footage.FPS/time.Second)
		}
		o.Object = fmt.Sprintf("%s %d", o.Object, walked)
		o.Class = does.word(o.Class)
		o.Box.Left, o.Box.Right = o.Box.Left+does.Shifted.X, o.Box.Right+does.Shifted.X
		o.Box.Bottom, o.Box.Top = o.Box.Bottom+does.Shifted.Y, o.Box.Top+does.Shifted.Y
	}
	return seen
}

// looks is where its analytics see what is somewhere in the picture that is sent.
func (e EngineHabits) looks(b scene.Box) scene.Box {
	if e.Over {
		return scene.Box{Left: -b.Right, Right: -b.Left, Bottom: -b.Top, Top: -b.Bottom}
	}
	return b
}

// word is the make's own for a class.
func (e EngineHabits) word(class string) string {
	if own, ok := e.Words[class]; ok {
		return own
	}
	return class
}

// class is what a word of the make's own is for.
func (e EngineHabits) class(word string) string {
	for class, own := range e.Words {
		if own == word {
			return class
		}
	}
	return word
}

// metadataXML is one document: a frame with the objects in it (ONVIF Analytics, 5.1), and the events since the last.
func metadataXML(at time.Time, seen []scene.Observation, dress func(scene.Observation) string, told []message) string {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?><tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:VideoAnalytics><tt:Frame UtcTime="` + at.UTC().Format("2006-01-02T15:04:05.000Z") + `">`)
	for _, o := range seen {
		id := fnv.New32()
		_, _ = id.Write([]byte(o.Object))
		x := o.Box
		fmt.Fprintf(&b, `<tt:Object ObjectId="%d"><tt:Appearance><tt:Shape><tt:BoundingBox left="%.4f" top="%.4f" right="%.4f" bottom="%.4f"/><tt:CenterOfGravity x="%.4f" y="%.4f"/></tt:Shape><tt:Class><tt:Type Likelihood="%.2f">%s</tt:Type></tt:Class>%s</tt:Appearance></tt:Object>`,
			id.Sum32()%100000, x.Left, x.Top, x.Right, x.Bottom, (x.Left+x.Right)/2, (x.Top+x.Bottom)/2, o.Score, wire.Esc(o.Class), dress(o))
	}
	b.WriteString("</tt:Frame></tt:VideoAnalytics>")
	if len(told) > 0 {
		b.WriteString(`<tt:Event xmlns:wsnt="http://docs.oasis-open.org/wsn/b-2" xmlns:tns1="http://www.onvif.org/ver10/topics">`)
		for _, m := range told {
			b.WriteString(m.xml())
		}
		b.WriteString("</tt:Event>")
	}
	b.WriteString("</tt:MetadataStream>")
	return b.String()
}
