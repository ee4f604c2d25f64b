package onvif

import (
	"encoding/base64"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/picture"
)

// Limits of one document of metadata.
const (
	MaxMetadata = 1 << 20 // bytes
	maxFrames   = 64
	maxObjects  = 256      // of a frame
	maxTold     = 64       // events
	maxCrop     = 40 << 10 // bytes of an object's picture
	maxCropSide = 1024     // pixels
)

// Metadata is what a document carries.
type Metadata struct {
	Frames  []SeenFrame
	Events  []Event // as pull points give them (tt:Event, ONVIF Streaming 5.1.2.1.1)
	Without int     // objects that were left out: they have no box, or there were too many
}

// SeenFrame is what a device's analytics saw in one picture (tt:Frame, ONVIF Analytics 5.1).
type SeenFrame struct {
	At      time.Time // on the device's own clock
	Objects []SeenObject
}

// SeenObject is one thing in it.
type SeenObject struct {
	ID    string
	Class string  // the likeliest; empty: it doesn't tell
	Score float64 // 0…1; 1 where it doesn't tell
	Box   scene.Box
	Crop  []byte // its picture, JPEG, where one was sent with it
	scene.Traits
}

// plains are the rooms of trees: ten documents a second and camera have one each, for a moment.
var plains = sync.Pool{New: func() any { return new(plainXML) }}

// ParseMetadata reads a document (tt:MetadataStream). What else it carries is left out. The frame's own transformation is
// applied to the boxes (tt:Transformation).
func ParseMetadata(doc []byte) (out Metadata, err error) {
	if len(doc) > MaxMetadata {
		return out, fmt.Errorf("a document of metadata is longer than %d bytes", MaxMetadata)
	}
	p := plains.Get().(*plainXML)
	defer func() { p.reset(""); plains.Put(p) }()
	root, ok := p.read(doc)
	if !ok {
		if root, err = parseAny(doc); err != nil {
			return out, err
		}
	}
	if root.name.Local != "MetadataStream" {
		return out, fmt.Errorf("a document of metadata begins with %.40q", root.name.Local)
	}
	for _, e := range root.all("Event") {
		for _, n := range e.all("NotificationMessage") {
			if told, ok := readEvent(n); ok && len(out.Events) < maxTold {
				out.Events = append(out.Events, told)
			}
		}
	}
	for _, a := range root.all("VideoAnalytics") {
		for _, n := range a.all("Frame") {
			at, err := time.Parse(time.RFC3339Nano, n.attr("UtcTime"))
			if err != nil || len(out.Frames) >= maxFrames {
				out.Without += len(n.all("Object"))
				continue
			}
			f := SeenFrame{At: at.UTC()}
			move := transformation(n.at("Transformation"))
			for _, o := range n.all("Object") {
				x, ok := object(o, move)
				if !ok || len(f.Objects) >= maxObjects {
					out.Without++
					continue
				}
				f.Objects = append(f.Objects, x)
			}
			out.Frames = append(out.Frames, f)
		}
	}
	return out, nil
}

// transformation is what maps a frame's coordinates to the standard's.
func transformation(n *node) func(x, y float64) scene.Point {
	sx, sy, dx, dy := 1.0, 1.0, 0.0, 0.0
	part := func(name string, x, y *float64) {
		if p := n.at(name); p != nil {
			*x, *y = (&node{text: p.attr("x")}).float(), (&node{text: p.attr("y")}).float()
		}
	}
	part("Scale", &sx, &sy)
	part("Translate", &dx, &dy)
	return func(x, y float64) scene.Point { return scene.Point{X: sx*x + dx, Y: sy*y + dy} }
}

// object reads one object; ok is false where it has no box in the frame.
func object(n *node, move func(x, y float64) scene.Point) (o SeenObject, ok bool) {
	o.ID = n.attr("ObjectId")
	look := n.at("Appearance")
	box := look.at("Shape", "BoundingBox")
	if o.ID == "" || len(o.ID) > 64 || box == nil {
		return o, false
	}
	num := func(name string) float64 { return (&node{text: box.attr(name)}).float() }
	a, b := move(num("left"), num("bottom")), move(num("right"), num("top"))
	in := func(v float64) float64 { return max(-1, min(1, v)) }
	o.Box = scene.Box{Left: in(min(a.X, b.X)), Right: in(max(a.X, b.X)), Bottom: in(min(a.Y, b.Y)), Top: in(max(a.Y, b.Y))}
	o.Class, o.Score = likeliest(look.at("Class"))
	o.Traits = traits(n)
	o.Crop = crop(look.at("Image"))
	return o, o.Box.Area() > 0 && !math.IsNaN(o.Box.Area())
}

// crop is the picture of an object (tt:Appearance/tt:Image, base64); nil where none is told, or where it is none that is kept.
func crop(n *node) []byte {
	if n == nil || len(n.text) > maxCrop*4/3+512 {
		return nil
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(n.text), ""))
	if err != nil || len(data) > maxCrop {
		return nil
	}
	if size, err := picture.Measure(data); err != nil || size.Width > maxCropSide || size.Height > maxCropSide {
		return nil
	}
	return data
}

// likeliest is the class of most likelihood: of tt:Type, and of tt:ClassCandidate as older devices tell it.
func likeliest(n *node) (class string, score float64) {
	score = -1
	take := func(name string, likelihood float64, told bool) {
		if !told {
			likelihood = 1
		}
		if name = dial.CleanText(name, 32); name != "" && likelihood > score {
			class, score = name, max(0, min(1, likelihood))
		}
	}
	for _, t := range n.all("Type") {
		take(t.str(), t.num1("Likelihood"), t.attr("Likelihood") != "")
	}
	for _, c := range n.all("ClassCandidate") {
		take(c.str("Type"), c.float("Likelihood"), c.at("Likelihood") != nil)
	}
	if score < 0 {
		return "", 1
	}
	return class, score
}

// num1 reads a number in an attribute.
func (n *node) num1(attribute string) float64 { return (&node{text: n.attr(attribute)}).float() }
