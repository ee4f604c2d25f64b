package settings

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// networkForm is a network as its form is filled with it.
type networkForm struct{ store.Network }

// PrefixText is empty for a network that is to be added.
func (n networkForm) PrefixText() string {
	if n.ID == 0 {
		return ""
	}
	return n.Prefix.String()
}

func text(a *netip.Addr) string {
	if a == nil {
		return ""
	}
	return a.String()
}

// GatewayText is empty where its first address is taken for it.
func (n networkForm) GatewayText() string { return text(n.Gateway) }

// TimeServerText is empty where the site's wish holds.
func (n networkForm) TimeServerText() string { return text(n.TimeServer) }

// DNSText lists its name servers, with commas.
func (n networkForm) DNSText() string { return netplan.DNSText(n.DNS) }

// PortsText lists its further ports, with commas.
func (n networkForm) PortsText() string {
	words := make([]string, len(n.Ports))
	for i, p := range n.Ports {
		words[i] = fmt.Sprint(p)
	}
	return strings.Join(words, ",")
}

// AtOnceText is empty where the site's limit holds.
func (n networkForm) AtOnceText() string {
	if n.AtOnce == 0 {
		return ""
	}
	return fmt.Sprint(n.AtOnce)
}

// systemForm is a system as its form is filled with it.
type systemForm struct{ store.System }

// Act is where its form is sent.
func (y systemForm) Act() string {
	if y.ID == 0 {
		return "settings/system"
	}
	return fmt.Sprintf("settings/system/%d", y.ID)
}

// AddressText is empty for one that is to be added.
func (y systemForm) AddressText() string {
	if !y.Address.IsValid() {
		return ""
	}
	return y.Address.String()
}

// SetText is its account's number; "0": none.
func (y systemForm) SetText() string {
	if y.SetID == nil {
		return "0"
	}
	return fmt.Sprint(*y.SetID)
}

// answeringMost is how many of those that answer are named.
const answeringMost = 12

// AnsweringText names what answers and nothing of the site is.
func (d *settingsData) AnsweringText() string {
	var names []string
	for _, o := range d.Answering[:min(len(d.Answering), answeringMost)] {
		name := o.Address.String()
		if o.Title != "" {
			name += " “" + o.Title + "”"
		}
		names = append(names, name)
	}
	text := strings.Join(names, ", ")
	if more := len(d.Answering) - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// answering is what answers on the site's networks and nothing of the site is: a system that is
// added is likely one of these.
func answering(networks []store.Network, systems []store.System) (out []store.Other) {
	known := map[netip.Addr]bool{}
	for _, y := range systems {
		known[y.Address] = true
	}
	for _, n := range networks {
		if n.Look == nil {
			continue
		}
		for _, o := range n.Look.Others {
			if !known[o.Address] {
				out = append(out, o)
			}
		}
	}
	return out
}

// everyChoices are how often networks may be looked at.
func everyChoices() []shell.Option {
	return []shell.Option{{Value: "0", Says: "only when asked"}, {Value: "5", Says: "every 5 minutes"}, {Value: "15", Says: "every 15 minutes"},
		{Value: "60", Says: "every hour"}, {Value: "1440", Says: "every day"}}
}

// named is an option for what has a number and a name.
func named(id int64, name string) shell.Option {
	return shell.Option{Value: fmt.Sprint(id), Says: name}
}

// forms of the page: what stands in each, and what a limit of it is.
type forms struct {
	p    *shell.Request
	d    *settingsData
	sets []shell.Option
}

func formsOf(p *shell.Request, d *settingsData) forms {
	f := forms{p: p, d: d}
	for _, s := range d.Sets {
		f.sets = append(f.sets, named(s.ID, s.Name))
	}
	return f
}

// act is an act's name, with the number of what it is about; 0: of one that is to be made.
func act(name string, id int64) string {
	if id == 0 {
		return name
	}
	return fmt.Sprintf("%s/%d", name, id)
}

// does is what a form's button says.
func does(id int64, adds string) string {
	if id == 0 {
		return adds
	}
	return "Keep"
}

// Remove is the form that takes something off the site; confirm is asked once more, empty: the act asks itself.
func (f forms) Remove(name string, id int64, place, confirm string) shell.Form {
	return f.p.Form(shell.Form{Act: act(name, id) + "/remove", ID: "gone", Do: "Remove " + place, Small: true, Confirm: confirm})
}

// Network is the form of a network.
func (f forms) Network(n networkForm) shell.Form {
	return f.p.Form(shell.Form{Act: act("settings/network", n.ID), ID: fmt.Sprintf("n-%d", n.ID), Do: does(n.ID, "Add the network"), Fields: []shell.Field{
		{Name: "name", Label: "Name", Value: n.Name, Required: true, Most: 64},
		{Name: "prefix", Label: "Prefix, up to a /16", Value: n.PrefixText(), Like: "192.0.2.0/24", Required: true, Mono: true, Most: 43},
		{Name: "gateway", Label: "Gateway; empty: its first address, and none is asked for", Value: n.GatewayText(), Mono: true, Most: 43},
		{Name: "time-server", Label: "Time server of its cameras; empty: as the site asks", Value: n.TimeServerText(), Mono: true, Most: 43},
		{Name: "dns", Label: "Name servers (DNS) of its cameras, at most 3; empty: not looked at", Value: n.DNSText(), Mono: true, Most: 64},
		{Name: "ports", Label: "Ports to look at besides 80, 443, 554, 8080, 8443, 8554", Value: n.PortsText(), Mono: true, Most: 80},
		{Name: "at-once", Label: "Devices worked on at once; empty: as the site asks", Value: n.AtOnceText(), Kind: shell.AsNumber, Least: 1, Greatest: 256, Mono: true, Narrow: true},
	}})
}

// Proposed is the form that adds a network that this machine is on.
func (f forms) Proposed(prefix netip.Prefix) shell.Form {
	return f.p.Form(shell.Form{Act: "settings/network", ID: "p-" + strings.NewReplacer(".", "-", "/", "-").Replace(prefix.String()), Do: "Add it", Line: true, Fields: []shell.Field{
		{Name: "prefix", Kind: shell.AsFixed, Value: prefix.String()},
		{Name: "name", Label: "Name of the network " + prefix.String(), Like: "Name", Required: true, Most: 64},
	}})
}

// ownedList are the devices of a kind that have an account of their own.
type ownedList struct {
	ID, Act, Heading, Count, Empty, Adds string
	Rows                                 []store.RecorderRow
	Fresh                                store.RecorderRow
}

// owned lists a site's recorders and analysers.
func (pg *Page) owned(ctx context.Context, site int64) ([]ownedList, error) {
	out := []ownedList{{ID: "recorders", Act: "settings/recorder", Heading: "Recorders", Count: "Planned", Adds: "Add a recorder",
		Empty: "No recorder yet: a look finds those that answer, or add one by its address."},
		{ID: "analysers", Act: "settings/analyser", Heading: "Analysers", Count: "Views", Adds: "Add an analyser",
			Empty: "No analyser yet: one looks at cameras that have no analytics of their own. A look finds those that answer, or add one by its address."}}
	for i, kind := range []identity.Kind{identity.Recorder, identity.Analyser} {
		var err error
		if out[i].Rows, err = pg.Store.Owned(ctx, site, kind); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Owned is the form of a recorder or an analyser; the zero one is to be added.
func (f forms) Owned(o ownedList, r store.RecorderRow) shell.Form {
	sets := append([]shell.Option{{Value: "0", Says: "none yet"}}, f.sets...)
	fields := []shell.Field{{Name: "place", Label: "Name", Value: r.Place, Required: true, Most: 64},
		{Name: "set", Label: "Its account", Value: fmt.Sprint(r.SetID), Kind: shell.AsChoice, Options: sets},
		{Name: "note", Label: "Note", Value: r.Note, Most: 500}}
	if r.ID == 0 {
		fields[2] = fields[1]
		fields[1] = shell.Field{Name: "address", Label: "Address", Like: "192.0.2.5", Required: true, Mono: true, Most: 43}
	}
	return f.p.Form(shell.Form{Act: act(o.Act, r.ID), ID: fmt.Sprintf("%s-%d", o.ID, r.ID), Do: does(r.ID, o.Adds), Fields: fields})
}

// System is the form of another system.
func (f forms) System(y systemForm) shell.Form {
	var kinds []shell.Option
	for _, k := range netplan.SystemKinds() {
		kinds = append(kinds, shell.Option{Value: k.Slug(), Says: k.String()})
	}
	kind := kinds[0].Value
	if y.ID != 0 {
		kind = y.Kind.Slug()
	}
	return f.p.Form(shell.Form{Act: y.Act(), ID: fmt.Sprintf("y-%d", y.ID), Do: does(y.ID, "Add the system"), Fields: []shell.Field{
		{Name: "name", Label: "Name", Value: y.Name, Required: true, Most: 64},
		{Name: "kind", Label: "What it is", Value: kind, Kind: shell.AsChoice, Options: kinds, Required: true},
		{Name: "address", Label: "Address", Value: y.AddressText(), Like: "192.0.2.8", Required: true, Mono: true, Most: 43},
		{Name: "set", Label: "Its account", Value: y.SetText(), Kind: shell.AsChoice, Options: append([]shell.Option{{Value: "0", Says: "none"}}, f.sets...)},
		{Name: "note", Label: "Note", Value: y.Note, Most: 500},
	}})
}

// Set is the form of a credential set.
func (f forms) Set(s access.Set) shell.Form {
	networks := []shell.Option{{Value: "0", Says: "any"}}
	for _, n := range f.d.Networks {
		networks = append(networks, named(n.ID, n.Name))
	}
	password := shell.Field{Name: "password", Label: "Password", Kind: shell.AsPassword, Required: true, Mono: true, Most: 128}
	if s.ID != 0 {
		password.Label, password.Required = "Another password; empty: as it is", false
	}
	return f.p.Form(shell.Form{Act: act("settings/set", s.ID), ID: fmt.Sprintf("s-%d", s.ID), Do: does(s.ID, "Add the set"), Secret: true, Fields: []shell.Field{
		{Name: "name", Label: "Name", Value: s.Name, Required: true, Most: 64},
		{Name: "username", Label: "User name", Value: s.Username, Required: true, Mono: true, Most: 64},
		password,
		{Name: "make", Label: "Tried first on make", Value: s.Make, Most: 64},
		{Name: "network", Label: "Tried first on network", Value: fmt.Sprint(s.Network), Kind: shell.AsChoice, Options: networks},
		{Name: "factory", Label: "a maker's default: tried only when asked for", Value: "1", Kind: shell.AsTick, On: s.Factory},
		{Name: "former", Label: "left by others: what it opens needs a new password", Value: "1", Kind: shell.AsTick, On: s.Former},
	}})
}

// Wishes is the form of what the site asks for.
func (f forms) Wishes() shell.Form {
	of := f.p.Site
	source := of.TimeSource
	if f.d.Server != "" {
		source = "named"
	}
	var servers []shell.Option
	for _, y := range f.d.Systems {
		if y.Kind.Slug() == "time" {
			servers = append(servers, shell.Option{Value: y.Address.String(), Says: y.Name})
		}
	}
	return f.p.Form(shell.Form{Act: "settings/wishes", ID: "w", Do: "Keep", Fields: []shell.Field{
		{Name: "every", Label: "Look at the networks again by itself", Value: fmt.Sprint(of.LookEvery), Kind: shell.AsChoice, Options: everyChoices()},
		{Name: "source", Label: "Cameras take their time from", Value: source, Kind: shell.AsChoice, Options: []shell.Option{{Value: "recorder", Says: "the recorder that holds them"},
			{Value: "named", Says: "a named server"}, {Value: "dhcp", Says: "the server that their network names (DHCP)"}}},
		{Name: "server", Label: "Named server", Value: f.d.Server, Like: "192.0.2.9", Mono: true, Most: 43, Options: servers},
		{Name: "network", Label: "Devices of a network worked on at once, at most", Value: fmt.Sprint(of.AtOnceNetwork), Kind: shell.AsNumber, Least: 1, Greatest: 256, Required: true, Mono: true, Narrow: true},
		{Name: "recorder", Label: "Devices of a recorder worked on at once, at most", Value: fmt.Sprint(of.AtOnceRecorder), Kind: shell.AsNumber, Least: 1, Greatest: 32, Required: true, Mono: true, Narrow: true},
		{Name: "encrypt", Label: "Streams are to be encrypted: one that comes in clear is a finding", Value: "1", Kind: shell.AsTick, On: of.Encrypt},
	}})
}

// Least is the form that asks a make for a firmware.
func (f forms) Least() shell.Form {
	return f.p.Form(shell.Form{Act: "settings/least", ID: "f", Do: "Ask for it", Line: true, Fields: []shell.Field{
		{Name: "make", Label: "Make", Like: "Make", Required: true, Most: 64},
		{Name: "model", Label: "Model, empty for all", Like: "Model, or all", Most: 64},
		{Name: "least", Label: "Least firmware", Like: "4.1.0", Required: true, Mono: true, Narrow: true, Most: 64},
	}})
}

// SiteForm is the form of the site itself.
func (f forms) SiteForm() shell.Form {
	return f.p.Form(shell.Form{Act: "settings/site", ID: "site", Do: "Keep", Fields: []shell.Field{
		{Name: "name", Label: "Its name", Value: f.p.Site.Name, Required: true, Most: 64},
		{Name: "zone", Label: "Its time zone", Value: f.p.Site.Zone, Required: true, Most: 64, Options: shell.OptionsOf(f.d.Zones)},
	}})
}

// PutAway is the form that puts the site away.
func (f forms) PutAway() shell.Form {
	name := f.p.Site.Name
	return f.p.Form(shell.Form{Act: "settings/put-away", ID: "away", Do: "Put the site away", Sure: "Put " + name + " away", Small: true,
		Confirm: name + " is kept whole, shown in the list of sites alone, and does nothing by itself; its programs' tokens open nothing meanwhile. A lead takes it out again."})
}

// Role is the form of a colleague's role.
func (f forms) Role(c store.Colleague) shell.Form {
	roles := append(shell.OptionsOf(f.d.Roles), shell.Option{Value: "off", Says: "off the site"})
	return f.p.Form(shell.Form{Act: fmt.Sprintf("settings/people/%d/role", c.ID), ID: fmt.Sprintf("role-%d", c.ID), Do: "Change", Line: true, Small: true, Fields: []shell.Field{
		{Name: "role", Label: "Role of " + c.Name, Value: string(c.Role), Kind: shell.AsChoice, Options: roles}}})
}

// Invite is the form of an invitation.
func (f forms) Invite() shell.Form {
	return f.p.Form(shell.Form{Act: "settings/invite", ID: "i", Do: "Invite", Line: true, Fields: []shell.Field{
		{Name: "note", Label: "For whom", Like: "For whom", Required: true, Most: 64},
		{Name: "role", Label: "Their role", Value: string(f.d.Roles[0]), Kind: shell.AsChoice, Options: shell.OptionsOf(f.d.Roles)}}})
}

// Token is the form of a program's token.
func (f forms) Token() shell.Form {
	return f.p.Form(shell.Form{Act: "settings/token", ID: "t", Do: "Make a token", Line: true, Fields: []shell.Field{
		{Name: "name", Label: "Name of the program", Like: "Program", Required: true, Most: 64},
		{Name: "scope", Label: "run", Value: "run", Kind: shell.AsTick},
		{Name: "scope", Label: "apply", Value: "apply", Kind: shell.AsTick},
		{Name: "scope", Label: "set up", Value: "setup", Kind: shell.AsTick},
		{Name: "days", Label: "Days until it ends", Value: "90", Kind: shell.AsNumber, Least: 1, Greatest: 3650, Required: true, Mono: true, Narrow: true, After: "days"}}})
}
