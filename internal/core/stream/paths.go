package stream

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// Limits of what a person names as a device's streams.
const (
	MaxPaths = 8
	maxPath  = 512 // bytes
)

// PathsError says in a sentence why text names no streams.
type PathsError string

// Error is the sentence.
func (e PathsError) Error() string { return string(e) }

// ParsePaths reads the addresses of a device's streams as a person names them, one a line:
// the part from the first slash on, query and all, or a whole rtsp:// address, of which that
// part counts: the host is where the device was reached, its name, password and fragment are dropped.
// Each is kept once, in the person's order, at most MaxPaths. Every error is a PathsError.
func ParsePaths(text string) ([]string, error) {
	var out []string
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' }) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		path, err := pathOf(line)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(out, path) {
			out = append(out, path)
		}
	}
	if len(out) > MaxPaths {
		return nil, PathsError(fmt.Sprintf("These are %d addresses; name at most %d streams of one device.", len(out), MaxPaths))
	}
	return out, nil
}

// PathIn is the part of a stream's whole rtsp:// address that names the stream at its device, as
// ParsePaths keeps it; empty where the text is another or names none.
func PathIn(text string) string {
	text = strings.TrimSpace(text)
	if !strings.HasPrefix(strings.ToLower(text), "rtsp://") {
		return ""
	}
	path, err := pathOf(text)
	if err != nil || path == "/" {
		return ""
	}
	return path
}

func pathOf(line string) (string, error) {
	if len(line) > maxPath {
		return "", PathsError(fmt.Sprintf("%.40q… is longer than %d characters.", line, maxPath))
	}
	if strings.Contains(line, "://") && line[0] != '/' { // a path may hold another address
		u, err := url.Parse(line)
		if err != nil || u.Scheme != "rtsp" || u.Host == "" {
			return "", PathsError(fmt.Sprintf("%.60q is no rtsp:// address.", line))
		}
		_, line, _ = strings.Cut(line, "://")
		if i := strings.IndexAny(line, "/?#"); i >= 0 {
			line = line[i:] // as it was typed: nothing is encoded anew
		} else {
			line = ""
		}
		if !strings.HasPrefix(line, "/") {
			line = "/" + line
		}
	}
	line, _, _ = strings.Cut(line, "#") // a fragment never reaches the device
	u, err := url.ParseRequestURI(line)
	if err != nil || line[0] != '/' || strings.HasPrefix(line, "//") || strings.ContainsFunc(line, func(r rune) bool { return r <= ' ' || r > '~' }) || u.Host != "" {
		return "", PathsError(fmt.Sprintf("%.60q is no address of a stream, as /main or rtsp://192.0.2.7/main.", line))
	}
	return line, nil
}

// UsualPaths are addresses at which streams are often had, for a person who allows that they
// are asked.
func UsualPaths() []string {
	return []string{"/main", "/sub", "/live", "/stream", "/stream1", "/stream2", "/video", "/video1", "/h264", "/ch1"}
}

// PathURI is where the stream of a path is had of a device that was reached at an address.
func PathURI(at netip.AddrPort, path string) string { return "rtsp://" + at.String() + path }

// PathProfile is a stream that is had by its address alone, as its description declares it:
// its token and name are the path. Size and rates are 0 where the description doesn't tell.
func PathProfile(at netip.AddrPort, path, codec string, sps []byte) Profile {
	p := Profile{Token: path, Name: path, Codec: codec, URI: PathURI(at, path), Given: PathURI(at, path)}
	parse := ParseSPS
	if codec == "H265" {
		parse = ParseHEVC
	}
	if s, err := parse(sps); err == nil {
		p.Width, p.Height, p.FPS = s.Width, s.Height, s.FPS
	}
	return p
}
