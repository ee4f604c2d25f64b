package onvif

import (
	"math"
	"strconv"
	"strings"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/device/dial"
)

// traits reads what is told of an object besides its class: colour (tt:ColorDescriptor), plate (tt:LicensePlateInfo), speed
// (tt:Behaviour), and what is carried or worn (HumanBody and HumanFace, ONVIF Analytics 5.1.3). What isn't told stays so.
func traits(n *node) (t scene.Traits) {
	look := n.at("Appearance")
	t.Colour = colour(look.at("Color"))
	t.Plate = dial.CleanText(strings.Join(strings.Fields(look.str("LicensePlateInfo", "PlateNumber")), " "), 16)
	if v := n.float("Behaviour", "Speed"); v > 0 && v < 200 {
		t.Speed = v
	}
	told := func(c scene.Carried, of ...*node) {
		has, lacks := false, false
		for _, x := range of {
			switch worn(x) {
			case 1:
				has = true
			case -1:
				lacks = true
			}
		}
		switch {
		case has:
			t.Has = append(t.Has, c)
		case lacks:
			t.Lacks = append(t.Lacks, c)
		}
	}
	body, face := look.at("HumanBody"), look.at("HumanFace")
	wears := face.at("Accessory")
	if wears == nil {
		wears = face.at("AccessoryDescription")
	}
	told(scene.Bag, body.at("Belonging", "Bag"))
	told(scene.Hat, wears.at("Hat"), wears.at("Helmet"))
	told(scene.FaceCover, wears.at("Mask"), wears.at("Kerchief"))
	t.Held = held(look.at("Extension"))
	return t
}

// held is what an analyser of this product's own interface holds an object to be (docs/analyser-interface.yaml).
func held(n *node) (out []scene.Recognised) {
	for _, k := range n.all("Known") {
		set := k.attr("Set")
		entry, _ := strconv.ParseInt(k.attr("Entry"), 10, 64)
		score := (&node{text: k.attr("Score")}).float()
		as := known.Told(k.attr("As"))
		if set == "" || len(set) > 64 || len(out) >= scene.MostHeld || !(score >= 0 && score <= 1) || as != known.IsKnown && as != known.IsNearly && as != known.IsUnknown {
			continue
		}
		if as == known.IsUnknown {
			entry = 0
		}
		out = append(out, scene.Recognised{Set: strings.Clone(set), Entry: entry, As: string(as), Score: score})
	}
	return out
}

// worn is 1 for what is had, −1 for what isn't, 0 where it isn't told: a part with Wear in it, a truth by itself, or a part
// that says of what kind it is.
func worn(n *node) int {
	if n == nil {
		return 0
	}
	says := strings.ToLower(strings.TrimSpace(n.text))
	if x := n.at("Wear"); x != nil {
		says = strings.ToLower(strings.TrimSpace(x.text))
	}
	switch says {
	case "true", "1":
		return 1
	case "false", "0":
		return -1
	}
	if len(n.kids) > 0 && n.at("Wear") == nil {
		return 1
	}
	return 0
}

// colour is the word for the heaviest cluster, of the colour spaces that numbers have a plain meaning in.
func colour(n *node) scene.Colour {
	var heaviest *node
	most := math.Inf(-1)
	for _, c := range n.all("ColorCluster") {
		if w := c.float("Weight"); c.at("Color") != nil && w > most {
			heaviest, most = c.at("Color"), w
		}
	}
	if heaviest == nil {
		return ""
	}
	var v [3]float64
	for i, name := range [3]string{"X", "Y", "Z"} {
		var err error
		if v[i], err = strconv.ParseFloat(strings.TrimSpace(heaviest.attr(name)), 64); err != nil || !(v[i] >= 0 && v[i] <= 255) {
			return ""
		}
	}
	space := heaviest.attr("Colorspace")
	switch space[strings.LastIndexByte(space, '/')+1:] {
	case "", "YCbCr":
		return scene.ColourOf(scene.OfYCbCr(v[0], v[1], v[2]))
	case "RGB":
		return scene.ColourOf(v[0]/255, v[1]/255, v[2]/255)
	}
	return ""
}
