// Package shelf keeps seconds of video on disk for stand-ins that record, within a bound: RTP packets
// as they came, in files of the rtpdump format (RTP Tools, "rtpdump -F dump"), ten seconds a file, of
// which the oldest go first.
package shelf

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

const (
	segment = 10 * time.Second
	head    = 8 // of a packet: length, length of the packet, milliseconds since the file began
)

// Shelf is a folder of recordings, each within Most bytes. One with no Dir keeps nothing. It is safe
// for several goroutines.
type Shelf struct {
	Dir  string
	Most int64 // bytes of a recording

	mu   sync.Mutex
	open map[string]*file
}

type file struct {
	began time.Time
	f     *os.File
}

// Put keeps packets of a recording that came at a time; times grow.
func (s *Shelf) Put(recording string, at time.Time, packets [][]byte) error {
	if s == nil || s.Dir == "" || len(packets) == 0 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.open[recording]
	if o == nil || at.Sub(o.began) >= segment || at.Before(o.began) {
		var err error
		if o, err = s.next(recording, at); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	for _, p := range packets {
		if len(p) > 0xffff-head {
			continue
		}
		_ = binary.Write(&b, binary.BigEndian, uint16(len(p)+head))
		_ = binary.Write(&b, binary.BigEndian, uint16(len(p)))
		_ = binary.Write(&b, binary.BigEndian, uint32(at.Sub(o.began).Milliseconds()))
		b.Write(p)
	}
	_, err := o.f.Write(b.Bytes())
	return err
}

// next begins a file and removes the oldest ones that the bound has no room for.
func (s *Shelf) next(recording string, at time.Time) (*file, error) {
	if old := s.open[recording]; old != nil {
		_ = old.f.Close()
	}
	dir := filepath.Join(s.Dir, recording)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := s.trim(dir); err != nil {
		return nil, err
	}
	f, err := os.Create(filepath.Join(dir, fmt.Sprintf("%d.rtpdump", at.UnixMilli())))
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintf(f, "#!rtpplay1.0 127.0.0.1/0\n"); err != nil {
		return nil, err
	}
	var first [16]byte
	binary.BigEndian.PutUint32(first[:], uint32(at.Unix()))
	binary.BigEndian.PutUint32(first[4:], uint32(at.Nanosecond()/1000))
	if _, err := f.Write(first[:]); err != nil {
		return nil, err
	}
	if s.open == nil {
		s.open = map[string]*file{}
	}
	s.open[recording] = &file{at, f}
	return s.open[recording], nil
}

func (s *Shelf) trim(dir string) error {
	all, err := segments(dir)
	if err != nil {
		return err
	}
	var sum int64
	for _, x := range slices.Backward(all) {
		if sum += x.size; sum > s.Most {
			if err := os.Remove(filepath.Join(dir, x.name)); err != nil {
				return err
			}
		}
	}
	return nil
}

type piece struct {
	name  string
	began time.Time
	size  int64
}

// segments lists the files of a recording, the oldest first.
func segments(dir string) ([]piece, error) {
	all, err := os.ReadDir(dir)
	if os.IsNotExist(err) {
		return nil, nil
	}
	var out []piece
	for _, e := range all {
		ms, nerr := strconv.ParseInt(strings.TrimSuffix(e.Name(), ".rtpdump"), 10, 64)
		info, ierr := e.Info()
		if nerr == nil && ierr == nil {
			out = append(out, piece{e.Name(), time.UnixMilli(ms), info.Size()})
		}
	}
	slices.SortFunc(out, func(a, b piece) int { return a.began.Compare(b.began) })
	return out, err
}

// Since is when a recording's oldest packet came; ok is false where it holds none.
func (s *Shelf) Since(recording string) (at time.Time, bytes int64, ok bool) {
	if s == nil || s.Dir == "" {
		return at, 0, false
	}
	all, err := segments(filepath.Join(s.Dir, recording))
	if err != nil || len(all) == 0 {
		return at, 0, false
	}
	for _, x := range all {
		bytes += x.size
	}
	return all[0].began, bytes, true
}

// Packet is one that was kept, with when it came.
type Packet struct {
	At  time.Time
	Raw []byte
}

// Read gives what a recording holds, the oldest first, until yield says no.
func (s *Shelf) Read(recording string, yield func(Packet) bool) error {
	dir := filepath.Join(s.Dir, recording)
	all, err := segments(dir)
	if err != nil {
		return err
	}
	for _, x := range all {
		data, err := os.ReadFile(filepath.Join(dir, x.name))
		if os.IsNotExist(err) {
			continue // trimmed meanwhile
		}
		if err != nil {
			return err
		}
		_, rest, _ := bytes.Cut(data, []byte("\n"))
		if len(rest) < 16 {
			continue
		}
		for rest = rest[16:]; len(rest) >= head; {
			n := int(binary.BigEndian.Uint16(rest))
			if n < head || n > len(rest) {
				break // cut short
			}
			at := x.began.Add(time.Duration(binary.BigEndian.Uint32(rest[4:])) * time.Millisecond)
			if !yield(Packet{at, rest[head:n]}) {
				return nil
			}
			rest = rest[n:]
		}
	}
	return nil
}

// Drop removes a recording.
func (s *Shelf) Drop(recording string) {
	if s == nil || s.Dir == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.open[recording]; o != nil {
		_ = o.f.Close()
		delete(s.open, recording)
	}
	_ = os.RemoveAll(filepath.Join(s.Dir, recording))
}

// Close ends the files that are being written.
func (s *Shelf) Close() {
	if s == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.open {
		_ = o.f.Close()
	}
	s.open = nil
}
