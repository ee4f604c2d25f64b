// Package picture decodes the JPEG pictures that devices give (ITU-T T.81), within bounds that are
// counted before anything is decoded: a small file may ask for much.
package picture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
)

// Bounds of a picture that is decoded.
const (
	MostBytes  = 4 << 20
	mostPixels = 34_000_000 // 8K is 33,177,600
	// mostWork is how many pixels a progressive picture has times the scans in which they come: each
	// scan goes over all of them, and all are held until the last.
	mostWork = 120_000_000
	// mostProgressive is how many pixels a progressive picture has: its coefficients take six bytes each.
	mostProgressive = 12_600_000
	mostScans       = 64
)

// ErrPicture is the kind of error for what is no JPEG picture of a usual size.
var ErrPicture = errors.New("it is no JPEG picture of a usual size")

// Size of a picture, with what decoding it takes.
type Size struct {
	Width, Height int
	Scans         int
	Progressive   bool
}

// turn is held by who decodes: one picture at a time in a process, whoever sends them.
var turn = make(chan struct{}, 1)

// Markers (table B.1).
const (
	markerSOF0 = 0xc0
	markerSOF1 = 0xc1
	markerSOF2 = 0xc2 // progressive
	markerRST0 = 0xd0
	markerSOI  = 0xd8
	markerEOI  = 0xd9
	markerSOS  = 0xda
	markerTEM  = 0x01
)

// Measure reads a picture's size and counts its scans without decoding any. Its error is ErrPicture, with
// what is wrong.
func Measure(data []byte) (s Size, err error) {
	if len(data) > MostBytes || len(data) < 4 || data[0] != 0xff || data[1] != markerSOI {
		return s, fmt.Errorf("%w: %d bytes", ErrPicture, len(data))
	}
	for i := 2; i+1 < len(data); {
		if data[i] != 0xff {
			i++ // of a scan
			continue
		}
		m := data[i+1]
		switch {
		case m == 0xff:
			i++ // fill
			continue
		case m == 0 || m == markerTEM || m >= markerRST0 && m < markerSOI:
			i += 2
			continue
		case m == markerEOI:
			return s, s.check()
		}
		if i+4 > len(data) {
			break
		}
		n := int(data[i+2])<<8 | int(data[i+3])
		switch {
		case n < 2 || i+2+n > len(data):
			return s, fmt.Errorf("%w: a part of it is cut short", ErrPicture)
		case m >= markerSOF0 && m <= markerSOF2 && s.Width == 0 && n >= 8:
			s.Height, s.Width = int(data[i+5])<<8|int(data[i+6]), int(data[i+7])<<8|int(data[i+8])
			s.Progressive = m == markerSOF2
		case m >= markerSOF0 && m <= markerSOF2:
			return s, fmt.Errorf("%w: it has two frames", ErrPicture)
		case m == markerSOS:
			if s.Scans++; s.Scans > mostScans {
				return s, fmt.Errorf("%w: it has more than %d scans", ErrPicture, mostScans)
			}
		}
		i += 2 + n
	}
	return s, s.check()
}

func (s Size) check() error {
	pixels := s.Width * s.Height
	switch {
	case pixels == 0 || s.Scans == 0:
		return fmt.Errorf("%w: it shows nothing", ErrPicture)
	case pixels > mostPixels, s.Progressive && pixels > mostProgressive, pixels*s.Scans > mostWork:
		return fmt.Errorf("%w: %d × %d in %d scans", ErrPicture, s.Width, s.Height, s.Scans)
	}
	return nil
}

// Decode decodes a picture, in its turn. Its error is ErrPicture, or that of ctx, which ends the waiting.
// What breaks the decoder is no picture.
func Decode(ctx context.Context, data []byte) (img image.Image, err error) {
	if _, err := Measure(data); err != nil {
		return nil, err
	}
	select {
	case turn <- struct{}{}:
		defer func() { <-turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() {
		if r := recover(); r != nil {
			img, err = nil, fmt.Errorf("%w: %v", ErrPicture, r)
		}
	}()
	if img, err = jpeg.Decode(bytes.NewReader(data)); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPicture, err)
	}
	return img, nil
}
