package inventory

import (
	"fmt"
	"image/color"
	"strings"

	"github.com/boombuler/barcode/qr"

	"duskyharbor/internal/core/inventory"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// label is what is stuck on a camera: where it belongs, and a code that opens its sheet.
type label struct {
	Place, Address, On string
	Code               code
}

// code is a QR code as a path of an SVG whose units are its modules.
type code struct {
	Size int
	Path string
}

// quiet is how many modules of nothing stand around a code (ISO/IEC 18004, 5.3.8).
const quiet = 4

// Box is what the SVG shows: the code, and nothing around it.
func (c code) Box() string { return fmt.Sprintf("%d %[1]d %d %[2]d", -quiet, c.Size+2*quiet) }

func labels(p *shell.Request, sources []site.Source, items []inventory.Item) ([]label, error) {
	out := make([]label, len(items))
	for i, x := range items {
		of := sources[i]
		c, err := codeOf(fmt.Sprintf("%s/sites/%d/board?sheet=%d", p.Origin, p.Site.ID, of.ID))
		if err != nil {
			return nil, err
		}
		out[i] = label{Place: x.Place, Address: x.Address, On: x.Recorder, Code: c}
		switch {
		case x.Channel > 0:
			out[i].On += fmt.Sprint(" · channel ", x.Channel)
		case x.Recorder != "":
			out[i].On += ", planned"
		}
	}
	return out, nil
}

// codeOf codes a text, so that a seventh of it may be spoilt.
func codeOf(text string) (code, error) {
	made, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return code{}, fmt.Errorf("inventory: a label's code: %w", err)
	}
	size := made.Bounds().Dx()
	var b strings.Builder
	for y := range size {
		for x := range size {
			if made.At(x, y) == color.Black {
				fmt.Fprintf(&b, "M%d %dh1v1h-1z", x, y)
			}
		}
	}
	return code{size, b.String()}, nil
}
