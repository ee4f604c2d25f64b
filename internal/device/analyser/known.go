package analyser

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/device/dial"
)

// Bounds of what an analyser tells of the sets that it holds.
const (
	maxSets    = 100
	knownLimit = 30 * time.Second // twelve pictures are sent at once
)

type knownSet struct {
	ID      string       `json:"id"`
	Name    string       `json:"name"`
	Kind    string       `json:"kind"`
	Least   float64      `json:"least"`
	Nearly  float64      `json:"nearly"`
	Close   bool         `json:"tells_nearly"`
	Unknown bool         `json:"tells_unknown"`
	Entries []knownEntry `json:"entries,omitempty"`
}

type knownEntry struct {
	ID       int64          `json:"id"`
	Name     string         `json:"name"`
	Pictures []knownPicture `json:"pictures"`
}

type knownPicture struct {
	ID     int64  `json:"id"`
	Digest string `json:"digest,omitempty"` // as it is told
	JPEG   []byte `json:"jpeg,omitempty"`   // as it is sent
}

// at is where a set is, by its key.
func at(set string) string { return "/api/known/" + url.PathEscape(set) }

// Reference is a reference picture as it is sent.
type Reference struct {
	ID   int64
	JPEG []byte
}

// Known reads the sets of references that it holds; how alike their pictures are is read apart.
func (c *Client) Known(ctx context.Context) (known.Held, error) {
	var in struct {
		Sets []knownSet `json:"sets"`
	}
	if err := c.do(ctx, http.MethodGet, "/api/known", "application/json", nil, &in, callLimit); err != nil {
		return known.Held{}, err
	}
	out := known.Held{At: time.Now().UTC()}
	for _, s := range in.Sets[:min(len(in.Sets), maxSets)] {
		h := known.HeldSet{Key: dial.CleanText(s.ID, 64), Text: s.set().Text()}
		for _, e := range s.Entries[:min(len(s.Entries), known.MostEntries)] {
			h.Entries = append(h.Entries, known.HeldEntry{ID: e.ID, Text: e.entry().Text()})
		}
		out.Sets = append(out.Sets, h)
	}
	return out, nil
}

func (s knownSet) set() known.Set {
	return known.Set{Name: dial.CleanText(s.Name, 4*known.MostName), Kind: known.Kind(dial.CleanText(s.Kind, 16)), Least: figure(s.Least, 1), Nearly: figure(s.Nearly, 1), Close: s.Close, Unknown: s.Unknown}
}

func (e knownEntry) entry() known.Entry {
	out := known.Entry{Name: dial.CleanText(e.Name, 4*known.MostName)}
	for _, p := range e.Pictures[:min(len(e.Pictures), known.MostPictures)] {
		out.Pictures = append(out.Pictures, known.Picture{ID: p.ID, Digest: dial.CleanText(p.Digest, 64)})
	}
	return out
}

// Likeness reads how alike the pictures of a set are.
func (c *Client) Likeness(ctx context.Context, set string) (known.Likeness, error) {
	var in known.Likeness
	if err := c.do(ctx, http.MethodGet, at(set)+"/likeness", "application/json", nil, &in, callLimit); err != nil {
		return known.Likeness{}, err
	}
	in.Pictures = in.Pictures[:min(len(in.Pictures), known.MostOfSet)]
	in.Scores = in.Scores[:min(len(in.Scores), len(in.Pictures))]
	for i, row := range in.Scores {
		in.Scores[i] = row[:min(len(row), len(in.Pictures))]
		for k, x := range in.Scores[i] {
			if !(x >= 0 && x <= 1) {
				in.Scores[i][k] = -1 // it is no score: nothing was told
			}
		}
	}
	return in, nil
}

// HoldSet has it hold a set, or hold it otherwise; its entries stay.
func (c *Client) HoldSet(ctx context.Context, s known.Set) error {
	in, err := json.Marshal(knownSet{Name: s.Name, Kind: string(s.Kind), Least: s.Least, Nearly: s.Nearly, Close: s.Close, Unknown: s.Unknown})
	if err != nil {
		return err
	}
	return c.do(ctx, http.MethodPut, at(s.Key), "application/json", in, nil, callLimit)
}

// ForgetSet has it delete a set with all its pictures.
func (c *Client) ForgetSet(ctx context.Context, set string) error {
	return c.do(ctx, http.MethodDelete, at(set), "application/json", nil, nil, callLimit)
}

// Hold has it hold an entry of a set with these pictures, and no others.
func (c *Client) Hold(ctx context.Context, set string, entry int64, name string, all []Reference) error {
	e := knownEntry{Name: name, Pictures: []knownPicture{}}
	for _, r := range all {
		e.Pictures = append(e.Pictures, knownPicture{ID: r.ID, JPEG: r.JPEG})
	}
	in, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return c.do(ctx, http.MethodPut, fmt.Sprintf("%s/entries/%d", at(set), entry), "application/json", in, nil, knownLimit)
}

// Forget has it delete an entry of a set with its pictures.
func (c *Client) Forget(ctx context.Context, set string, entry int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("%s/entries/%d", at(set), entry), "application/json", nil, nil, callLimit)
}
