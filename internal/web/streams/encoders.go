package streams

import (
	"cmp"
	"fmt"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/stages/streams"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// encoders is what the page offers to set of many.
type encoders struct {
	Form     shell.Form // its fields; which act it asks for says the button
	Name     shell.Field
	Groups   []shell.Field // where streams are sent to, with multicast on; not of a named setting
	Uses     shell.Form    // which stream is for what
	Told     int           // views whose options are told
	Settings []setting
	shown    bool
}

// usesOf asks which of one view's streams is for what.
func usesOf(p shell.Frame, of store.Source, f stream.Facts) shell.Form {
	if len(f.Profiles) < 2 {
		return shell.Form{}
	}
	choose := func(chosen, is string) []shell.Option {
		options := []shell.Option{{Value: stream.ByRule, Says: "by rule: " + is}}
		for _, x := range f.Profiles {
			options = append(options, shell.Option{Value: x.Token, Says: x.Name})
		}
		if _, _, there := f.Find(chosen); chosen != "" && !there {
			options = append(options, shell.Option{Value: chosen, Says: "one that isn't there any more"})
		}
		return options
	}
	return p.Form(shell.Form{Act: "streams/use", ID: "use", Do: "Keep these uses", Fields: []shell.Field{
		{Name: "pick", Kind: shell.AsFixed, Value: fmt.Sprint(of.ID)},
		{Name: "record", Label: "Recorded", Kind: shell.AsChoice, Value: cmp.Or(of.Uses.Record, stream.ByRule), Options: choose(of.Uses.Record, "the best")},
		{Name: "view", Label: "Looked at", Kind: shell.AsChoice, Value: cmp.Or(of.Uses.View, stream.ByRule), Options: choose(of.Uses.View, "the cheapest")}}})
}

// setting is a named setting as the page lists it.
type setting struct {
	store.EncoderSetting
	Says string
}

// Open says whether the fields are shown at once: what was typed in them was just refused.
func (e encoders) Open() bool { return e.shown || e.Form.Open() }

func encodersOf(p *shell.Request, views []stream.Facts, all []store.EncoderSetting) encoders {
	offered := stream.OfferedBy(views)
	act := "streams/encoders"
	if p.Refuses("streams/setting") { // the same fields, kept under a name
		act = "streams/setting"
	}
	of := func(by int) string { return fmt.Sprintf(" · %d of %d", by, offered.Views) }
	asIs := func(says string) []shell.Option { return []shell.Option{{Says: says}} }
	codecs, sizes, rates, levels := asIs("as it is"), asIs("as it is"), asIs("as they are"), asIs("as it is")
	for _, c := range streams.OfferedCodecs {
		codecs = append(codecs, shell.Option{Value: c, Says: stream.Pretty(c) + of(offered.Codecs[c])})
	}
	for _, s := range offered.Sizes {
		sizes = append(sizes, shell.Option{Value: fmt.Sprintf("%dx%d", s.Of.Width, s.Of.Height), Says: s.Of.Text() + of(s.By)})
	}
	for _, r := range offered.Rates {
		rates = append(rates, shell.Option{Value: fmt.Sprint(r.Of), Says: fmt.Sprintf("%g/s", r.Of) + of(r.By)})
	}
	for _, l := range offered.Levels {
		levels = append(levels, shell.Option{Value: l.Of, Says: l.Of + of(l.By)})
	}
	out := encoders{shown: p.URL.Query().Get("set") == "encoders", Told: offered.Views, Form: p.Form(shell.Form{Act: act, ID: "encoders", Fields: []shell.Field{
		{Name: "of", Label: "Stream", Kind: shell.AsChoice, Options: []shell.Option{{Says: "every one"}, {Value: string(stream.Record), Says: "record"}, {Value: string(stream.View), Says: "view"}}},
		{Name: "codec", Label: "Codec", Kind: shell.AsChoice, Options: codecs},
		{Name: "size", Label: "Size", Kind: shell.AsChoice, Options: sizes},
		{Name: "fps", Label: "Frames", Kind: shell.AsChoice, Options: rates},
		{Name: "kbps", Label: "Bit rate", Kind: shell.AsNumber, Least: 1, Greatest: 200000, Like: "as it is", Narrow: true, After: "kbit/s"},
		{Name: "rate", Label: "Kind of it", Kind: shell.AsChoice, Options: []shell.Option{{Says: "as it is"}, {Value: string(stream.Variable), Says: "at most"}, {Value: string(stream.Constant), Says: "constant"}}},
		{Name: "key", Label: "Key frames", Kind: shell.AsChoice, Options: []shell.Option{{Says: "as they are"}, {Value: "0.5", Says: "0.5 s apart"}, {Value: "1", Says: "1 s apart"}, {Value: "2", Says: "2 s apart"}}},
		{Name: "quality", Label: "Quality", Kind: shell.AsNumber, Least: 1, Greatest: 100, Like: "as it is", Narrow: true},
		{Name: "level", Label: "Profile", Kind: shell.AsChoice, Options: levels},
		{Name: "cast", Label: "Multicast", Kind: shell.AsChoice, Options: []shell.Option{{Says: "as it is"}, {Value: string(stream.CastOff), Says: "off"}, {Value: string(stream.CastOn), Says: "on, a group each"}}},
		{Name: "group", Label: "Groups from", Like: stream.FirstGroup, Most: 15, Mono: true},
		{Name: "port", Label: "Port", Kind: shell.AsNumber, Least: 1024, Greatest: 65534, Like: "as it is", Narrow: true},
		{Name: "ttl", Label: "TTL", Kind: shell.AsNumber, Least: 1, Greatest: 255, Like: "as it is", Narrow: true},
		{Name: "name", Label: "Keep it as", Like: "quay by night", Most: 60},
	}})}
	n := len(out.Form.Fields)
	out.Name, out.Groups, out.Form.Fields = out.Form.Fields[n-1], out.Form.Fields[n-4:n-1], out.Form.Fields[:n-4]
	named := make([]string, len(offered.Names))
	for i, x := range offered.Names {
		named[i] = fmt.Sprintf("%s · %d of %d", x.Of, x.By, offered.Read)
	}
	choose := func(is string) []shell.Option {
		options := []shell.Option{{Says: "as it is"}, {Value: stream.ByRule, Says: "by rule: " + is}}
		for i, x := range offered.Names {
			options = append(options, shell.Option{Value: x.Of, Says: named[i]})
		}
		return options
	}
	out.Uses = p.Form(shell.Form{Act: "streams/use", ID: "uses", Fields: []shell.Field{
		{Name: "record", Label: "Recorded", Kind: shell.AsChoice, Options: choose("the best")},
		{Name: "view", Label: "Looked at", Kind: shell.AsChoice, Options: choose("the cheapest")}}})
	for _, e := range all {
		out.Settings = append(out.Settings, setting{e, e.Want.Text()})
	}
	return out
}
