package onvif

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/jpeg"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"duskyharbor/internal/core/scene"
)

const head = `<tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:VideoAnalytics>`

func frameXML(inner string) string {
	return head + `<tt:Frame UtcTime="2026-03-01T12:00:00.200Z">` + inner + `</tt:Frame></tt:VideoAnalytics></tt:MetadataStream>`
}

// Makes tell the same in several ways: other prefixes, classes as types or as candidates, boxes upside down, coordinates of
// their own with what maps them.
func TestMetadataIsRead(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 2e8, time.UTC)
	object := func(inner string) string { return `<tt:Object ObjectId="7">` + inner + `</tt:Object>` }
	const shape = `<tt:Shape><tt:BoundingBox left="-0.5" top="0.5" right="0.25" bottom="-0.25"/><tt:CenterOfGravity x="0" y="0"/></tt:Shape>`
	box := scene.Box{Left: -0.5, Right: 0.25, Bottom: -0.25, Top: 0.5}
	for name, x := range map[string]struct {
		doc     string
		want    []SeenObject
		without int
	}{
		"an empty frame":     {frameXML(""), nil, 0},
		"a box alone":        {frameXML(object(`<tt:Appearance>` + shape + `</tt:Appearance>`)), []SeenObject{{"7", "", 1, box, nil, scene.Traits{}}}, 0},
		"a type":             {frameXML(object(`<tt:Appearance>` + shape + `<tt:Class><tt:Type Likelihood="0.7">Human</tt:Type><tt:Type Likelihood="0.2">Animal</tt:Type></tt:Class></tt:Appearance>`)), []SeenObject{{"7", "Human", 0.7, box, nil, scene.Traits{}}}, 0},
		"without likelihood": {frameXML(object(`<tt:Appearance>` + shape + `<tt:Class><tt:Type>Vehicle</tt:Type></tt:Class></tt:Appearance>`)), []SeenObject{{"7", "Vehicle", 1, box, nil, scene.Traits{}}}, 0},
		"candidates":         {frameXML(object(`<tt:Appearance>` + shape + `<tt:Class><tt:ClassCandidate><tt:Type>Animal</tt:Type><tt:Likelihood>0.3</tt:Likelihood></tt:ClassCandidate><tt:ClassCandidate><tt:Type>Human</tt:Type><tt:Likelihood>0.6</tt:Likelihood></tt:ClassCandidate></tt:Class></tt:Appearance>`)), []SeenObject{{"7", "Human", 0.6, box, nil, scene.Traits{}}}, 0},
		"upside down":        {frameXML(object(`<tt:Appearance><tt:Shape><tt:BoundingBox left="0.25" top="-0.25" right="-0.5" bottom="0.5"/></tt:Shape></tt:Appearance>`)), []SeenObject{{"7", "", 1, box, nil, scene.Traits{}}}, 0},
		"other prefixes":     {strings.NewReplacer("tt:", "a:", "xmlns:tt", "xmlns:a").Replace(frameXML(object(`<tt:Appearance>` + shape + `</tt:Appearance>`))), []SeenObject{{"7", "", 1, box, nil, scene.Traits{}}}, 0},
		"hundredths":         {frameXML(`<tt:Transformation><tt:Translate x="-1" y="1"/><tt:Scale x="0.02" y="-0.02"/></tt:Transformation>` + object(`<tt:Appearance><tt:Shape><tt:BoundingBox left="25" top="25" right="62.5" bottom="62.5"/></tt:Shape></tt:Appearance>`)), []SeenObject{{"7", "", 1, box, nil, scene.Traits{}}}, 0},
		"cut by the frame":   {frameXML(object(`<tt:Appearance><tt:Shape><tt:BoundingBox left="-1.5" top="2" right="0" bottom="0"/></tt:Shape></tt:Appearance>`)), []SeenObject{{"7", "", 1, scene.Box{Left: -1, Right: 0, Bottom: 0, Top: 1}, nil, scene.Traits{}}}, 0},
		"no box":             {frameXML(object(`<tt:Appearance><tt:Shape><tt:CenterOfGravity x="0" y="0"/></tt:Shape></tt:Appearance>`)), nil, 1},
		"a box of nothing":   {frameXML(object(`<tt:Appearance><tt:Shape><tt:BoundingBox left="0.5" top="0.5" right="0.5" bottom="0.1"/></tt:Shape></tt:Appearance>`)), nil, 1},
		"outside":            {frameXML(object(`<tt:Appearance><tt:Shape><tt:BoundingBox left="2" top="3" right="4" bottom="2"/></tt:Shape></tt:Appearance>`)), nil, 1},
		"no id":              {frameXML(`<tt:Object><tt:Appearance>` + shape + `</tt:Appearance></tt:Object>`), nil, 1},
	} {
		told, err := ParseMetadata([]byte(x.doc))
		got, without := told.Frames, told.Without
		if err != nil || without != x.without || len(got) != 1 || !got[0].At.Equal(at) || len(got[0].Objects) != len(x.want) {
			t.Errorf("%s: %+v, %d without: %v", name, got, without, err)
			continue
		}
		for i, o := range got[0].Objects {
			w := x.want[i]
			if o.ID != w.ID || o.Class != w.Class || o.Score != w.Score || !near(o.Box, w.Box) {
				t.Errorf("%s: %+v, want %+v", name, o, w)
			}
		}
	}
	for name, doc := range map[string]string{"nothing": "", "another document": "<a/>", "cut short": head, "too long": strings.Repeat(" ", MaxMetadata) + "<a/>"} {
		if got, err := ParseMetadata([]byte(doc)); err == nil {
			t.Errorf("%s is read as %v", name, got)
		}
	}
	if got, err := ParseMetadata([]byte(head + `<tt:Frame UtcTime="soon">` + object("") + `</tt:Frame></tt:VideoAnalytics></tt:MetadataStream>`)); err != nil || len(got.Frames) != 0 || got.Without != 1 {
		t.Errorf("a frame without a time: %+v %v", got, err)
	}
	if got, err := ParseMetadata([]byte(`<MetadataStream><Event/></MetadataStream>`)); err != nil || !reflect.DeepEqual(got, Metadata{}) {
		t.Errorf("events alone: %v %v", got, err)
	}
	const fired = `<wsnt:NotificationMessage xmlns:wsnt="http://docs.oasis-open.org/wsn/b-2"><wsnt:Topic xmlns:tns1="http://www.onvif.org/ver10/topics">tns1:RuleEngine/LineDetector/Crossed</wsnt:Topic><wsnt:Message><tt:Message UtcTime="2026-03-01T12:00:00.2Z"><tt:Source><tt:SimpleItem Name="Rule" Value="edge"/></tt:Source><tt:Data><tt:SimpleItem Name="ObjectId" Value="7"/></tt:Data></tt:Message></wsnt:Message></wsnt:NotificationMessage>`
	for many, want := range map[int]int{0: 0, 1: 1, maxTold + 1: maxTold} {
		doc := `<tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:Event>` + strings.Repeat(fired, many) + `</tt:Event></tt:MetadataStream>`
		got, err := ParseMetadata([]byte(doc))
		if err != nil || len(got.Events) != want {
			t.Fatalf("%d firings: %+v, %v", many, got, err)
		}
		if want > 0 && (got.Events[0].Topic != "tns1:RuleEngine/LineDetector/Crossed" || got.Events[0].Rule() != "edge" || !got.Events[0].At.Equal(at)) {
			t.Errorf("%+v", got.Events[0])
		}
	}
}

func near(a, b scene.Box) bool {
	off := func(x, y float64) bool { return x-y > 1e-9 || y-x > 1e-9 }
	return !off(a.Left, b.Left) && !off(a.Right, b.Right) && !off(a.Top, b.Top) && !off(a.Bottom, b.Bottom)
}

// Whatever a device sends, what is kept of it lies in the frame and within the limits.
func FuzzParseMetadata(f *testing.F) {
	f.Add([]byte(frameXML(`<tt:Object ObjectId="1"><tt:Appearance><tt:Shape><tt:BoundingBox left="-1" top="1" right="1" bottom="-1"/></tt:Shape></tt:Appearance></tt:Object>`)))
	f.Add([]byte(frameXML(`<tt:Transformation><tt:Scale x="1e308" y="NaN"/></tt:Transformation>`)))
	f.Add([]byte("<MetadataStream/>"))
	f.Add([]byte(frameXML(`<tt:Object ObjectId="7"><tt:Appearance><tt:Shape><tt:BoundingBox left="-0.5" top="0.5" right="0.25" bottom="-0.25"/></tt:Shape><tt:Color><tt:ColorCluster><tt:Color X="76" Y="85" Z="255" Colorspace="a/RGB"/><tt:Weight>1</tt:Weight></tt:ColorCluster></tt:Color><tt:LicensePlateInfo><tt:PlateNumber>GP 41</tt:PlateNumber></tt:LicensePlateInfo><fc:HumanFace xmlns:fc="urn:f"><fc:Accessory><fc:Hat><fc:Wear>true</fc:Wear></fc:Hat></fc:Accessory></fc:HumanFace></tt:Appearance><tt:Behaviour><tt:Speed>2</tt:Speed></tt:Behaviour></tt:Object>`)))
	f.Fuzz(func(t *testing.T, doc []byte) {
		told, err := ParseMetadata(doc)
		frames := told.Frames
		if err != nil {
			return
		}
		if len(frames) > maxFrames {
			t.Fatalf("%d frames", len(frames))
		}
		for _, fr := range frames {
			if len(fr.Objects) > maxObjects {
				t.Fatalf("%d objects", len(fr.Objects))
			}
			for _, o := range fr.Objects {
				b := o.Box
				if !(b.Left >= -1 && b.Right <= 1 && b.Bottom >= -1 && b.Top <= 1 && b.Left < b.Right && b.Bottom < b.Top) || o.Score < 0 || o.Score > 1 || o.ID == "" || len(o.Class) > 64 || len(o.Crop) > maxCrop {
					t.Fatalf("%+v", o)
				}
				tr := o.Traits
				if tr.Colour != "" && !slices.Contains(scene.Colours, tr.Colour) || len(tr.Plate) > 16 || !utf8.ValidString(tr.Plate) || strings.ContainsFunc(tr.Plate, unicode.IsControl) ||
					!(tr.Speed >= 0 && tr.Speed < 200) || len(tr.Has)+len(tr.Lacks) > len(scene.Carrieds) {
					t.Fatalf("%+v", tr)
				}
			}
		}
	})
}

// A picture of an object is kept where it is a JPEG of a size that is believed; whatever else is sent for one is left out, and the
// object stays.
func TestPicturesOfObjectsAreRead(t *testing.T) {
	file := func(side int) []byte {
		var b bytes.Buffer
		if err := jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, side, side)), nil); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	small, wide := file(40), file(maxCropSide+1)
	for name, x := range map[string]struct {
		sent string
		kept bool
	}{
		"a picture":           {"<tt:Image>" + base64.StdEncoding.EncodeToString(small) + "</tt:Image>", true},
		"over several lines":  {"<tt:Image>\n" + base64.StdEncoding.EncodeToString(small)[:20] + "\n\t" + base64.StdEncoding.EncodeToString(small)[20:] + "\n</tt:Image>", true},
		"none":                {"", false},
		"empty":               {"<tt:Image/>", false},
		"no base64":           {"<tt:Image>%%%%</tt:Image>", false},
		"no JPEG":             {"<tt:Image>" + base64.StdEncoding.EncodeToString([]byte("<svg onload=x>")) + "</tt:Image>", false},
		"cut short":           {"<tt:Image>" + base64.StdEncoding.EncodeToString(small[:30]) + "</tt:Image>", false},
		"too wide":            {"<tt:Image>" + base64.StdEncoding.EncodeToString(wide) + "</tt:Image>", false},
		"too long":            {"<tt:Image>" + base64.StdEncoding.EncodeToString(append(slices.Clone(small), make([]byte, maxCrop)...)) + "</tt:Image>", false},
		"an address to fetch": {"<tt:ImageRef>http://127.0.0.1:1/x.jpg</tt:ImageRef>", false},
	} {
		told, err := ParseMetadata([]byte(frameXML(`<tt:Object ObjectId="7"><tt:Appearance><tt:Shape><tt:BoundingBox left="-0.5" top="0.5" right="0.25" bottom="-0.25"/></tt:Shape>` + x.sent + `</tt:Appearance></tt:Object>`)))
		if err != nil || len(told.Frames) != 1 || len(told.Frames[0].Objects) != 1 {
			t.Errorf("%s: %v %+v", name, err, told)
			continue
		}
		if got := told.Frames[0].Objects[0].Crop; x.kept != bytes.Equal(got, small) || !x.kept && got != nil {
			t.Errorf("%s: %d bytes are kept", name, len(got))
		}
	}
}
