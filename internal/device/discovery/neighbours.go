package discovery

import (
	"bufio"
	"io"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"duskyharbor/internal/core/identity"
)

// Neighbours reads which MAC this machine's own links have at which IPv4 address: what
// answered there at the link, whatever it says of itself. Empty where the system tells none.
func Neighbours() (map[netip.Addr]string, error) {
	f, err := os.Open("/proc/net/arp")
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return parseNeighbours(f)
}

// Flags of an entry (Linux, if_arp.h): it is complete; it answers for others.
const (
	arpComplete  = 0x02
	arpPublished = 0x08
)

// parseNeighbours reads the lines of the table: address, type, flags, MAC, mask, device. What
// isn't complete, or answers for others, tells nothing.
func parseNeighbours(r io.Reader) (map[netip.Addr]string, error) {
	out := map[netip.Addr]string{}
	lines := bufio.NewScanner(r)
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) < 6 {
			continue
		}
		at, err := netip.ParseAddr(f[0])
		flags, ferr := strconv.ParseUint(f[2], 0, 32)
		mac := identity.CleanMAC(f[3])
		if err != nil || ferr != nil || flags&arpComplete == 0 || flags&arpPublished != 0 || mac == "" {
			continue
		}
		out[at] = mac
	}
	return out, lines.Err()
}
