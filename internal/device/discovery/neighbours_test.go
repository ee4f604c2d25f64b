package discovery

import (
	"net/netip"
	"strings"
	"testing"
)

func TestNeighboursOfALink(t *testing.T) {
	table := `IP address       HW type     Flags       HW address            Mask     Device
10.0.0.11        0x1         0x2         02:D5:1A:40:01:11     *        eth0
10.0.0.12        0x1         0x0         00:00:00:00:00:00     *        eth0
10.0.0.13        0x1         0x0         02:d5:1a:40:01:13     *        eth0
10.0.0.14        0x1         0xe         02:d5:1a:40:01:14     *        eth0
garbage
10.0.0.999       0x1         0x2         02:d5:1a:40:01:15     *        eth0
`
	got, err := parseNeighbours(strings.NewReader(table))
	if err != nil || len(got) != 1 || got[netip.MustParseAddr("10.0.0.11")] != "02:d5:1a:40:01:11" {
		t.Errorf("%v %v", got, err)
	}
}
