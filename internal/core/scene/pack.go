package scene

import (
	"encoding/binary"
	"errors"
	"math"
	"time"
)

// A packed track: a version, the first point's time in ns (varint), then for each point the time since the one before in ms
// (varint), four sides in 65,535ths of the frame, and the score in 255ths. A side is off by less than 1 part in 60,000.
const packVersion = 1

// maxPacked is how many points a packed track has at the most.
const maxPacked = 1 << 16

// ErrPacked is returned for bytes that are no packed track.
var ErrPacked = errors.New("scene: no packed track")

// Pack writes points, in the order of time, in few bytes.
func Pack(points []TrackPoint) []byte {
	out := make([]byte, 0, 12+11*len(points))
	out = append(out, packVersion)
	var last int64
	for i, p := range points {
		if i == 0 {
			out = binary.AppendVarint(out, int64(p.At))
			last = int64(p.At)
		}
		ms := (int64(p.At) - last) / 1e6
		last += ms * 1e6
		out = binary.AppendVarint(out, ms)
		for _, v := range [4]float64{p.Box.Left, p.Box.Bottom, p.Box.Right, p.Box.Top} {
			out = binary.BigEndian.AppendUint16(out, uint16(math.Round(max(0, min(1, (v+1)/2))*math.MaxUint16)))
		}
		out = append(out, byte(math.Round(max(0, min(1, p.Score))*math.MaxUint8)))
	}
	return out
}

// Unpack reads what Pack wrote, and adds it to points.
func Unpack(points []TrackPoint, data []byte) ([]TrackPoint, error) {
	if len(data) == 0 || data[0] != packVersion {
		return points, ErrPacked
	}
	data = data[1:]
	if len(data) == 0 {
		return points, nil
	}
	at, n := binary.Varint(data)
	if n <= 0 {
		return points, ErrPacked
	}
	data = data[n:]
	for count := 0; len(data) > 0; count++ {
		ms, n := binary.Varint(data)
		if n <= 0 || len(data) < n+9 || count >= maxPacked || ms > 1e12 || ms < -1e12 {
			return points, ErrPacked
		}
		data = data[n:]
		at += ms * 1e6
		side := func(i int) float64 { return float64(binary.BigEndian.Uint16(data[2*i:]))/math.MaxUint16*2 - 1 }
		points = append(points, TrackPoint{At: time.Duration(at), Box: Box{side(0), side(1), side(2), side(3)}, Score: float64(data[8]) / math.MaxUint8})
		data = data[9:]
	}
	return points, nil
}
