package camera

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"

	"duskyharbor/internal/standin/wire"
)

func (c *Camera) passwordOf(name string) (string, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, u := range c.mem.Users {
		if u.Name == name {
			return u.Password, true
		}
	}
	return "", false
}

func (c *Camera) userOf(name string) (user, bool) {
	users := c.memory().Users
	i := slices.IndexFunc(users, func(u user) bool { return u.Name == name })
	if i < 0 {
		return user{}, false
	}
	return users[i], true
}

// noPassword says whether no first password was set: then anyone may set it (ONVIF Core,
// 5.9.4: a device in its factory state asks for no sign-in).
func (c *Camera) noPassword() bool { return len(c.memory().Users) == 0 }

// wrong counts a wrong sign-in.
func (c *Camera) wrong() {
	if c.cfg.Manners.LockAfter > 0 {
		c.change(func(m *memory) { m.Wrong = append(m.Wrong, time.Now()) })
	}
}

// lockedFor is how long the camera stays locked after too many wrong sign-ins.
func (c *Camera) lockedFor() time.Duration {
	most := c.cfg.Manners.LockAfter
	if most == 0 {
		return 0
	}
	var recent []time.Time
	for _, t := range c.memory().Wrong {
		if time.Since(t) < c.cfg.Manners.LockFor {
			recent = append(recent, t)
		}
	}
	if len(recent) < most {
		return 0
	}
	return time.Until(recent[len(recent)-most].Add(c.cfg.Manners.LockFor))
}

// httpUser checks the Authorization of a request by the schemes this make takes.
func (c *Camera) httpUser(r *http.Request) (name string, ok bool) {
	h := r.Header.Get("Authorization")
	if rest, basic := strings.CutPrefix(h, "Basic "); basic && c.cfg.TakesBasic {
		raw, err := base64.StdEncoding.DecodeString(rest)
		name, pass, cut := strings.Cut(string(raw), ":")
		want, known := c.passwordOf(name)
		return name, err == nil && cut && known && pass == want
	}
	if !c.cfg.TakesDigest && !c.cfg.Manners.WebOnly && c.cfg.TakesBasic {
		return "", false
	}
	name, verdict := c.digest.Check(h, r.Method)
	return name, verdict == wire.Right
}

func (c *Camera) challenge() string {
	if c.cfg.TakesBasic && !c.cfg.TakesDigest {
		return `Basic realm="` + c.cfg.Model + `"`
	}
	return c.digest.Challenge(true)
}

// webUser lets an account onto the camera's own page and stills.
func (c *Camera) webUser(w http.ResponseWriter, r *http.Request) (string, bool) {
	if d := c.lockedFor(); d > 0 {
		w.Header().Set("Retry-After", fmt.Sprint(int(d.Seconds())+1))
		w.WriteHeader(http.StatusForbidden)
		return "", false
	}
	name, ok := c.httpUser(r)
	if !ok {
		if _, v := c.digest.Check(r.Header.Get("Authorization"), r.Method); r.Header.Get("Authorization") != "" && v != wire.Stale {
			c.wrong()
		}
		w.Header().Set("WWW-Authenticate", c.challenge())
		w.WriteHeader(http.StatusUnauthorized)
	}
	return name, ok
}

// may says whether a level may do an operation (the default access policy of ONVIF
// Core, 5.9.4.3): only an administrator writes to the system.
func may(level, op string) bool {
	if level == "Administrator" {
		return true
	}
	for _, p := range []string{"SetSystem", "SetNTP", "SetUser", "CreateUsers", "DeleteUsers", "GetUsers", "SetNetwork",
		"SystemReboot", "SetScopes", "SetDiscoveryMode", "SetHostname", "SetDNS", "GetPasswordComplexity"} {
		if strings.HasPrefix(op, p) {
			return false
		}
	}
	return true
}

// users answers the user operations of the Device service (ONVIF Core, 8.4).
func (c *Camera) users(op *wire.Node) (string, *fault, bool) {
	switch op.XMLName.Local {
	case "GetUsers":
		var b strings.Builder
		for _, u := range c.memory().Users {
			if !u.WebOnly {
				fmt.Fprintf(&b, `<tds:User><tt:Username>%s</tt:Username><tt:UserLevel>%s</tt:UserLevel></tds:User>`,
					wire.Esc(u.Name), u.Level)
			}
		}
		return "<tds:GetUsersResponse>" + b.String() + "</tds:GetUsersResponse>", nil, true
	case "GetPasswordComplexityConfiguration":
		if !c.cfg.Manners.Strict {
			return "", sender("ter:ActionNotSupported", "This device has no such rule."), true
		}
		return `<tds:GetPasswordComplexityConfigurationResponse><tds:MinLen>10</tds:MinLen><tds:Uppercase>1</tds:Uppercase><tds:Number>1</tds:Number><tds:SpecialChars>1</tds:SpecialChars><tds:BlockUsernameOccurrence>true</tds:BlockUsernameOccurrence></tds:GetPasswordComplexityConfigurationResponse>`, nil, true
	case "CreateUsers", "SetUser":
		return c.writeUsers(op)
	case "DeleteUsers":
		name := op.Get("Username")
		if _, ok := c.userOf(name); !ok {
			return "", sender("ter:InvalidArgVal/ter:UsernameMissing", "There is no such user."), true
		}
		c.change(func(m *memory) {
			m.Users = slices.DeleteFunc(m.Users, func(u user) bool { return u.Name == name })
		})
		return "<tds:DeleteUsersResponse/>", nil, true
	}
	return "", nil, false
}

func (c *Camera) writeUsers(op *wire.Node) (string, *fault, bool) {
	name, password, level := op.Get("Username"), op.Get("Password"), op.Get("UserLevel")
	old, known := c.userOf(name)
	create := op.XMLName.Local == "CreateUsers"
	switch {
	case name == "" || len(name) > 32:
		return "", sender("ter:OperationProhibited/ter:UsernameTooLong", "A user name has 1 to 32 characters."), true
	case create && known && !old.WebOnly:
		return "", sender("ter:OperationProhibited/ter:UsernameClash", "That user is there already."), true
	case !create && !known:
		return "", sender("ter:InvalidArgVal/ter:UsernameMissing", "There is no such user."), true
	case level != "Administrator" && level != "Operator" && level != "User":
		return "", sender("ter:InvalidArgVal/ter:InvalidUserLevel", "There is no such level."), true
	case len(password) > 32:
		return "", sender("ter:OperationProhibited/ter:PasswordTooLong", "A password has at most 32 characters."), true
	case c.cfg.Manners.Strict && !strong(name, password) || len(password) < 8:
		return "", sender("ter:OperationProhibited/ter:PasswordTooWeak", "The password breaks this device's rule."), true
	}
	c.change(func(m *memory) {
		// A web account's ONVIF side is an account of its own here.
		m.Users = slices.DeleteFunc(m.Users, func(u user) bool { return u.Name == name && !u.WebOnly })
		m.Users = slices.DeleteFunc(m.Users, func(u user) bool { return u.Name == name && u.WebOnly && u.Password == password })
		m.Users = append(m.Users, user{Name: name, Password: password, Level: level})
		m.Wrong = nil
	})
	return "<tds:" + op.XMLName.Local + "Response/>", nil, true
}

// strong is the rule of a strict make.
func strong(name, password string) bool {
	return len(password) >= 10 && strings.IndexFunc(password, unicode.IsUpper) >= 0 && strings.IndexFunc(password, unicode.IsLower) >= 0 &&
		strings.IndexFunc(password, unicode.IsDigit) >= 0 && strings.IndexFunc(password, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) >= 0 &&
		!strings.Contains(strings.ToLower(password), strings.ToLower(name))
}
