package onvif

import (
	"reflect"
	"testing"

	"duskyharbor/internal/core/scene"
)

func TestTraitsAreRead(t *testing.T) {
	const box = `<tt:Shape><tt:BoundingBox left="-0.5" top="0.5" right="0.25" bottom="-0.25"/></tt:Shape>`
	cluster := func(x, weight string) string {
		return `<tt:ColorCluster><tt:Color ` + x + `/><tt:Weight>` + weight + `</tt:Weight></tt:ColorCluster>`
	}
	const red, blue = `X="76" Y="85" Z="255"`, `X="29" Y="255" Z="107"`
	for name, x := range map[string]struct {
		look, beside string
		want         scene.Traits
	}{
		"nothing":                  {"", "", scene.Traits{}},
		"a colour":                 {`<tt:Color>` + cluster(red, "1") + `</tt:Color>`, "", scene.Traits{Colour: scene.Red}},
		"the heavier":              {`<tt:Color>` + cluster(red, "0.3") + cluster(blue, "0.6") + `</tt:Color>`, "", scene.Traits{Colour: scene.Blue}},
		"without weights":          {`<tt:Color><tt:ColorCluster><tt:Color ` + blue + `/></tt:ColorCluster></tt:Color>`, "", scene.Traits{Colour: scene.Blue}},
		"of another space":         {`<tt:Color>` + cluster(`X="255" Y="128" Z="0" Colorspace="http://www.onvif.org/ver10/colorspace/RGB"`, "1") + `</tt:Color>`, "", scene.Traits{Colour: scene.Orange}},
		"of one without words":     {`<tt:Color>` + cluster(`X="50" Y="20" Z="20" Colorspace="http://www.onvif.org/ver10/colorspace/CIELAB"`, "1") + `</tt:Color>`, "", scene.Traits{}},
		"in part":                  {`<tt:Color>` + cluster(`X="50" Y="20"`, "1") + `</tt:Color>`, "", scene.Traits{}},
		"beyond":                   {`<tt:Color>` + cluster(`X="50" Y="20" Z="256"`, "1") + `</tt:Color>`, "", scene.Traits{}},
		"no number":                {`<tt:Color>` + cluster(`X="50" Y="20" Z="NaN"`, "1") + `</tt:Color>`, "", scene.Traits{}},
		"a plate":                  {`<tt:LicensePlateInfo><tt:PlateNumber Likelihood="0.9"> GP  41 FT </tt:PlateNumber></tt:LicensePlateInfo>`, "", scene.Traits{Plate: "GP 41 FT"}},
		"a plate that is too long": {`<tt:LicensePlateInfo><tt:PlateNumber>0123456789ABCDEFGHIJ</tt:PlateNumber></tt:LicensePlateInfo>`, "", scene.Traits{Plate: "0123456789ABCDEF"}},
		"a speed":                  {"", `<tt:Behaviour><tt:Speed>1.5</tt:Speed></tt:Behaviour>`, scene.Traits{Speed: 1.5}},
		"no speed":                 {"", `<tt:Behaviour><tt:Speed>-3</tt:Speed></tt:Behaviour>`, scene.Traits{}},
		"a bag, no hat, no mask": {`<fc:HumanFace xmlns:fc="http://www.onvif.org/ver20/analytics/humanface"><fc:Accessory><fc:Hat><fc:Wear>false</fc:Wear></fc:Hat><fc:Mask><fc:Wear>0</fc:Wear></fc:Mask></fc:Accessory></fc:HumanFace>` +
			`<bd:HumanBody xmlns:bd="http://www.onvif.org/ver20/analytics/humanbody"><bd:Belonging><bd:Bag><bd:Category>Backpack</bd:Category></bd:Bag></bd:Belonging></bd:HumanBody>`, "",
			scene.Traits{Has: []scene.Carried{scene.Bag}, Lacks: []scene.Carried{scene.Hat, scene.FaceCover}}},
		"a helmet is a hat":      {`<a:HumanFace xmlns:a="urn:a"><a:AccessoryDescription><a:Hat><a:Wear>false</a:Wear></a:Hat><a:Helmet><a:Wear>true</a:Wear></a:Helmet></a:AccessoryDescription></a:HumanFace>`, "", scene.Traits{Has: []scene.Carried{scene.Hat}}},
		"said without saying it": {`<a:HumanFace xmlns:a="urn:a"><a:Accessory><a:Hat/><a:Mask><a:Wear>perhaps</a:Wear></a:Mask></a:Accessory></a:HumanFace>`, "", scene.Traits{}},
	} {
		doc := frameXML(`<tt:Object ObjectId="7"><tt:Appearance>` + box + x.look + `</tt:Appearance>` + x.beside + `</tt:Object>`)
		told, err := ParseMetadata([]byte(doc))
		if err != nil || len(told.Frames) != 1 || len(told.Frames[0].Objects) != 1 || !reflect.DeepEqual(told.Frames[0].Objects[0].Traits, x.want) {
			t.Errorf("%s: %+v %v", name, told, err)
		}
	}
}
