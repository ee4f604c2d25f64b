package analyser

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"math"
	"net/http"
	"slices"
	"strconv"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/wire"
)

// Bounds of the sets that it holds.
const (
	mostSets      = 20
	mostEntries   = 60
	mostOfEntry   = 12
	maxReferences = 8 << 20 // bytes of an entry's pictures, as they are sent
	maxSide       = 1024    // pixels
)

// knows are the kinds of which it takes references.
var knows = []string{"face", "vehicle", "thing"}

// ofKind are the classes that it holds against sets of a kind; of things it is all.
var ofKind = map[string][]string{"face": {"Human"}, "vehicle": {"Vehicle", "Boat"}}

// set is a set of references as it keeps it.
type set struct {
	ID      string  `json:"id"`
	Name    string  `json:"name"`
	Kind    string  `json:"kind"`
	Least   float64 `json:"least"`
	Nearly  float64 `json:"nearly"`
	Close   bool    `json:"tells_nearly"`
	Unknown bool    `json:"tells_unknown"`
	Entries []entry `json:"entries"`
}

type entry struct {
	ID       int64       `json:"id"`
	Name     string      `json:"name"`
	Pictures []reference `json:"pictures"`
}

type reference struct {
	ID     int64  `json:"id"`
	Digest string `json:"digest"`
	JPEG   []byte `json:"jpeg,omitempty"` // as it is sent; it keeps what it makes of it alone
	Looks  []byte `json:"looks,omitempty"`
}

// Parts across and down into which it divides a picture to remember it, and how much colours may differ.
const (
	partsWide, partsHigh = 3, 8
	differ               = 46
)

// remembers is what it makes of a picture: the colour of each part of its middle, and of the whole how tall it is.
func remembers(img image.Image) []byte {
	b := img.Bounds()
	out := make([]byte, 0, 3*partsWide*partsHigh+1)
	left, wide := b.Min.X+b.Dx()*22/100, float64(b.Dx())*0.56
	top, high := b.Min.Y+b.Dy()*5/100, float64(b.Dy())*0.9
	const side = 4
	for i := range partsWide * partsHigh {
		var sum [3]int
		for k := range side * side {
			x := left + int((float64(i%partsWide)+(float64(k%side)+0.5)/side)*wide/partsWide)
			y := top + int((float64(i/partsWide)+(float64(k/side)+0.5)/side)*high/partsHigh)
			r, g, bl, _ := img.At(x, y).RGBA()
			sum[0], sum[1], sum[2] = sum[0]+int(r>>8), sum[1]+int(g>>8), sum[2]+int(bl>>8)
		}
		for _, s := range sum {
			out = append(out, byte(s/(side*side)))
		}
	}
	return append(out, byte(min(255, 40*float64(b.Dy())/float64(max(1, b.Dx())))))
}

// alike is how alike two pictures are by what it made of them, 0 to 1.
func alike(a, b []byte) float64 {
	if len(a) != len(b) || len(a) == 0 {
		return 0
	}
	sum := 0.0
	for i := range a {
		d := float64(a[i]) - float64(b[i])
		sum += d * d
	}
	far := math.Sqrt(sum/float64(len(a))) / differ
	return math.Exp(-far * far / 2)
}

// hold says what a picture of an object of a class is held to be by each set.
func (m memory) hold(class string, img image.Image) (out []camera.Known) {
	var looks []byte
	for _, s := range m.Sets {
		if of := ofKind[s.Kind]; of != nil && !slices.Contains(of, class) {
			continue
		}
		if looks == nil {
			looks = remembers(img)
		}
		var who int64
		best := 0.0
		for _, e := range s.Entries {
			for _, p := range e.Pictures {
				if x := alike(looks, p.Looks); x > best {
					who, best = e.ID, x
				}
			}
		}
		k := camera.Known{Set: s.ID, Entry: who, Score: best}
		switch {
		case best >= s.Least:
			k.As = "known"
		case best >= s.Nearly && s.Close:
			k.As = "nearly known"
		case s.Unknown:
			k.As, k.Entry = "unknown", 0
		default:
			continue
		}
		out = append(out, k)
	}
	return out
}

// shows is what there is to tell of what is seen in a still besides where it is: a picture of what it shows better than those of before,
// and who it is held to be, where that is surer than before.
func (a *Analyser) shows(v *view, img image.Image, seen []scene.Observation) map[string]camera.Shown {
	out := map[string]camera.Shown{}
	for object, data := range v.tracks.pictures(img, seen) {
		out[object] = camera.Shown{Picture: data}
	}
	for _, o := range seen {
		of := v.tracks.find(o.Object)
		part, ok := partOf(img, o.Box)
		if of == nil || !ok || !inside(o.Box) {
			continue
		}
		a.mu.Lock()
		all := a.mem.hold(o.Class, part)
		a.mu.Unlock()
		if all = of.surer(all); len(all) > 0 {
			x := out[o.Object]
			x.Known = all
			out[o.Object] = x
		}
	}
	return out
}

// surer keeps of what an object is held to be what it is surer of than before.
func (t *trace) surer(all []camera.Known) (out []camera.Known) {
	for _, k := range all {
		if k.Score > t.held[k.Set] {
			if t.held == nil {
				t.held = map[string]float64{}
			}
			t.held[k.Set] = k.Score
			out = append(out, k)
		}
	}
	return out
}

// Knows are how many entries it holds references of.
func (a *Analyser) Knows() (n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range a.mem.Sets {
		n += len(s.Entries)
	}
	return n
}

func (m memory) set(id string) int {
	return slices.IndexFunc(m.Sets, func(s set) bool { return s.ID == id })
}

// named finds the set that a call names, and refuses one that it doesn't hold.
func (a *Analyser) named(w http.ResponseWriter, q *http.Request) (i int, ok bool) {
	if i = a.mem.set(q.PathValue("set")); i < 0 {
		refuse(w, http.StatusNotFound, "it holds no such set")
	}
	return i, i >= 0
}

// kept keeps what it holds now, and says so.
func (a *Analyser) kept(w http.ResponseWriter) {
	_ = wire.Save(a.cfg.StateFile, a.mem)
	reply(w, http.StatusOK, map[string]string{})
}

func (a *Analyser) known(w http.ResponseWriter, _ *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := make([]set, len(a.mem.Sets))
	for i, s := range a.mem.Sets {
		s.Entries = slices.Clone(s.Entries)
		for k := range s.Entries {
			s.Entries[k].Pictures = slices.Clone(s.Entries[k].Pictures)
			for n := range s.Entries[k].Pictures {
				s.Entries[k].Pictures[n].Looks = nil
			}
		}
		out[i] = s
	}
	reply(w, http.StatusOK, map[string]any{"sets": out})
}

func (a *Analyser) likeness(w http.ResponseWriter, q *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	i, ok := a.named(w, q)
	if !ok {
		return
	}
	ids, all := []int64{}, [][]byte{}
	for _, e := range a.mem.Sets[i].Entries {
		for _, p := range e.Pictures {
			ids, all = append(ids, p.ID), append(all, p.Looks)
		}
	}
	scores := make([][]float64, len(all))
	for i := range all {
		scores[i] = make([]float64, len(all))
		for k := range all {
			scores[i][k] = math.Round(1e4*alike(all[i], all[k])) / 1e4
		}
	}
	reply(w, http.StatusOK, map[string]any{"pictures": ids, "scores": scores})
}

func (a *Analyser) holdSet(w http.ResponseWriter, q *http.Request) {
	var in set
	id := q.PathValue("set")
	if err := json.NewDecoder(io.LimitReader(q.Body, 1<<16)).Decode(&in); err != nil || len(id) > 64 || in.Name == "" || len(in.Name) > 400 || !slices.Contains(knows, in.Kind) ||
		!(in.Least > 0 && in.Least <= 1) || !(in.Nearly >= 0 && in.Nearly <= in.Least) {
		refuse(w, http.StatusBadRequest, "a set has a key, a name, a kind, a score from which one is known and a lower one from which one nearly is")
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	i := a.mem.set(q.PathValue("set"))
	if i < 0 {
		if len(a.mem.Sets) >= mostSets {
			refuse(w, http.StatusConflict, fmt.Sprintf("it holds %d sets at the most", mostSets))
			return
		}
		a.mem.Sets = append(a.mem.Sets, set{ID: id})
		i = len(a.mem.Sets) - 1
	}
	in.ID, in.Entries = id, a.mem.Sets[i].Entries
	a.mem.Sets[i] = in
	a.kept(w)
}

func (a *Analyser) forgetSet(w http.ResponseWriter, q *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	i, ok := a.named(w, q)
	if !ok {
		return
	}
	a.mem.Sets = slices.Delete(a.mem.Sets, i, i+1)
	a.kept(w)
}

func (a *Analyser) holdEntry(w http.ResponseWriter, q *http.Request) {
	var in entry
	id, err := strconv.ParseInt(q.PathValue("entry"), 10, 64)
	if jerr := json.NewDecoder(io.LimitReader(q.Body, maxReferences)).Decode(&in); jerr != nil || err != nil || id <= 0 || in.Name == "" || len(in.Name) > 400 || len(in.Pictures) == 0 || len(in.Pictures) > mostOfEntry {
		refuse(w, http.StatusBadRequest, fmt.Sprintf("an entry has a number, a name and 1 to %d pictures", mostOfEntry))
		return
	}
	in.ID = id
	for i := range in.Pictures {
		p := &in.Pictures[i]
		size, err := jpeg.DecodeConfig(bytes.NewReader(p.JPEG))
		if err != nil || size.Width > maxSide || size.Height > maxSide {
			refuse(w, http.StatusBadRequest, fmt.Sprintf("picture %d is no JPEG of up to %d pixels a side", p.ID, maxSide))
			return
		}
		img, err := jpeg.Decode(bytes.NewReader(p.JPEG))
		if err != nil {
			refuse(w, http.StatusBadRequest, fmt.Sprintf("picture %d can't be decoded", p.ID))
			return
		}
		sum := sha256.Sum256(p.JPEG)
		p.Digest, p.Looks, p.JPEG = hex.EncodeToString(sum[:]), remembers(img), nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	i, ok := a.named(w, q)
	if !ok {
		return
	}
	s := &a.mem.Sets[i]
	k := slices.IndexFunc(s.Entries, func(e entry) bool { return e.ID == id })
	switch {
	case k >= 0:
		s.Entries = slices.Clone(s.Entries)
		s.Entries[k] = in
	case len(s.Entries) >= mostEntries:
		refuse(w, http.StatusConflict, fmt.Sprintf("a set has %d entries at the most", mostEntries))
		return
	default:
		s.Entries = append(slices.Clone(s.Entries), in)
	}
	a.kept(w)
}

func (a *Analyser) forgetEntry(w http.ResponseWriter, q *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	i, ok := a.named(w, q)
	if !ok {
		return
	}
	s := &a.mem.Sets[i]
	k := slices.IndexFunc(s.Entries, func(e entry) bool { return strconv.FormatInt(e.ID, 10) == q.PathValue("entry") })
	if k < 0 {
		refuse(w, http.StatusNotFound, "it holds no such entry")
		return
	}
	s.Entries = slices.Delete(slices.Clone(s.Entries), k, k+1)
	a.kept(w)
}
