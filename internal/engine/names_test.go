package engine_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/standin/camera"
)

// Where a person names a network's name servers, a camera without them is told so, written
// and read back; taken back, it has what it had.
func TestNameServersOfItsNetworkAreWritten(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	at, network := b.quayAt(".1.36")
	cam := b.beside(camera.Config{Place: "Winch", Make: "Ottervale", Model: "OTV 412", Serial: "WNC-2", MAC: "02:d5:1a:99:00:36", UUID: "7d7b8a10-0000-4000-8000-000000000036", Firmware: "4.1.7",
		Address: at, Network: network, Username: "otter", Password: b.Secrets.House, TakesDigest: true, NoAnalytics: true}, true)
	b.find()
	b.read(stage.SignIn, "Winch")
	if codes := b.codes(b.device("Winch")); strings.Contains(codes, "find.dns") {
		t.Errorf("nobody named a server, and it says %s", codes)
	}

	all, err := b.Store.Networks(t.Context(), b.Site)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range all {
		if !n.Prefix.Contains(at) {
			continue
		}
		n.DNS = []netip.Addr{network.Addr().Next()}
		if why, err := b.Store.SetNetwork(t.Context(), b.Site, n, nil); err != nil || why != "" {
			t.Fatal(why, err)
		}
	}
	if err := b.app.Engine.Judge(t.Context(), b.Site, nil); err != nil {
		t.Fatal(err)
	}
	if codes := b.codes(b.device("Winch")); !strings.Contains(codes, "find.dns") {
		t.Errorf("it has no name server, and its codes are %q", codes)
	}
	proposed := b.proposals(b.device("Winch"), stage.Find)
	i := slices.IndexFunc(proposed, func(c finding.Change) bool { return c.Kind == identity.SetDNS })
	if i < 0 || proposed[i].From != "none" || proposed[i].To != network.Addr().Next().String() {
		t.Fatalf("%+v", proposed)
	}
	if r := b.apply(stage.Find, "Winch"); r.Failed > 0 {
		t.Fatalf("%+v", r)
	}
	if got := cam.DNS(); len(got) != 1 || got[0] != network.Addr().Next().String() {
		t.Errorf("the camera has %v", got)
	}
	if codes := b.codes(b.device("Winch")); strings.Contains(codes, "find.dns") {
		t.Errorf("it was written, and its codes are %q", codes)
	}
	made, err := b.Store.ChangesOf(t.Context(), b.source(b.device("Winch")), 1)
	if err != nil || len(made) != 1 {
		t.Fatal(made, err)
	}
	b.wait(b.undo(t.Context(), made[0]))
	if got := cam.DNS(); len(got) != 0 {
		t.Errorf("taken back, the camera has %v", got)
	}
}

// A stage is registered once: the second of one place is an error, and so is one that is none of the ten.
func TestAStageIsRegisteredOnce(t *testing.T) {
	t.Parallel()
	b := seen(t, "Slipway")
	for _, st := range b.app.Stages() {
		if err := b.app.Register(st); err == nil {
			t.Errorf("%s is registered twice", st.ID())
		}
	}
	if err := b.app.Register(nowhere{b.app.Stages()[0]}); err == nil {
		t.Error("a stage that is none of the ten is registered")
	}
}

type nowhere struct{ engine.Stage }

func (nowhere) ID() stage.Stage { return 11 }
