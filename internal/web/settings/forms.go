package settings

import (
	"fmt"
	"net/netip"
	"strings"

	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
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
