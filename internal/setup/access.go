package setup

import (
	"context"
	"errors"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// entry are the acts by which a lead says who and what may use a site. None is a program's: what opens this
// product is given by a person.
func entry() []act.Any {
	return []act.Any{
		act.Act[Invitation]{Name: "settings/invite", About: "invite a person", Role: people.Lead, Alone: true, Keep: invite},
		act.Act[ID]{Name: "settings/invitations/:id/withdraw", About: "withdraw an invitation", Role: people.Lead, Alone: true, Keep: withdraw},
		act.Act[Role]{Name: "settings/people/:id/role", About: "give a person another role, or take them off the site", Role: people.Lead, Alone: true, Keep: setRole},
		act.Act[Token]{Name: "settings/token", About: "make a token for a program", Role: people.Lead, Alone: true, Keep: addToken},
		act.Act[struct{}]{Name: "settings/put-away", About: "put the site away: it is kept whole and does nothing by itself", Role: people.Lead, Alone: true, Keep: putAway},
		act.Act[ID]{Name: "settings/tokens/:id/end", About: "end a token", Role: people.Lead, Alone: true, Keep: endToken},
	}
}

// ID names a row.
type ID struct {
	ID int64 `param:"id" json:"-"`
}

// inviteFor is how long an invitation may wait.
const inviteFor = 7 * 24 * time.Hour

// Invitation is for whom, and as what.
type Invitation struct {
	Note string `form:"note" json:"note"`
	Role string `form:"role" json:"role"`
}

func roleOf(text string) (people.Role, bool) {
	r := people.Role(text)
	return r, r == people.Lead || r == people.Technician || r == people.Viewer
}

// invite makes a code with which one person may join the site.
func invite(ctx context.Context, c *act.Call, x Invitation) (act.Kept, error) {
	role, ok := roleOf(x.Role)
	note := strings.TrimSpace(x.Note)
	if !ok || note == "" || !act.Fits(note, 64) {
		return act.Kept{}, act.Wrong("note", "An invitation says for whom it is, in at most 64 characters, and which role they get.")
	}
	code, hash := people.NewCode()
	return act.Kept{Did: "invited", Detail: note + " as " + string(role), Secret: &act.Secret{Heading: "Invitation for " + note, Text: code,
		Note: "Give them this code; they type it at /join of this address within seven days. It opens once and isn't shown again."}}, c.Store.Invite(ctx, c.Site.ID, c.Person, role, note, hash, c.Now.Add(inviteFor))
}

func withdraw(ctx context.Context, c *act.Call, x ID) (act.Kept, error) {
	return act.Kept{Says: "The invitation opens nothing any more.", Did: "withdrew an invitation"}, c.Store.Withdraw(ctx, c.Site.ID, x.ID)
}

// Role is what a person of the site is; off: no more of the site.
type Role struct {
	ID   int64  `param:"id" json:"-"`
	Role string `form:"role" json:"role"`
}

func setRole(ctx context.Context, c *act.Call, x Role) (act.Kept, error) {
	role, ok := roleOf(x.Role)
	if x.Role == "off" {
		role, ok = "", true
	}
	if !ok {
		return act.Kept{}, act.Wrong("role", "A person is lead, technician or viewer of a site.")
	}
	switch err := c.Store.SetRole(ctx, c.Site.ID, x.ID, role); {
	case errors.Is(err, store.ErrLastLead):
		return act.Kept{}, trouble.UserError("A site keeps at least one lead: make somebody else lead first.")
	case err != nil:
		return act.Kept{}, err
	}
	p, err := c.Store.Person(ctx, x.ID)
	out := act.Kept{Did: "changed a role", Detail: p.Name + " is " + string(role)}
	if role == "" {
		out.Did, out.Detail = "took a person off the site", p.Name
	}
	out.Says = out.Detail + "."
	return out, err
}

// Token is a program's.
type Token struct {
	Name   string   `form:"name" json:"name"`
	Scopes []string `form:"scope" json:"scopes"`
	Days   int      `form:"days" json:"days"`
}

func addToken(ctx context.Context, c *act.Call, x Token) (act.Kept, error) {
	name := strings.TrimSpace(x.Name)
	scopes, err := people.ParseScopes(x.Scopes)
	if name == "" || !act.Fits(name, 64) || err != nil || x.Days < 1 || x.Days > 3650 {
		return act.Kept{}, act.Wrong("name", "A token has a name of at most 64 characters, may read, run, apply and set up, and ends after 1 to 3650 days.")
	}
	token, hash := people.NewToken()
	until := c.Now.Add(time.Duration(x.Days) * 24 * time.Hour)
	if _, err = c.Store.AddToken(ctx, c.Site.ID, c.Person, name, scopes, hash, &until); errors.Is(err, store.ErrNamed) {
		err = act.Wrong("name", "A token "+name+" is there already, and its secret was shown once: end it first, or take another name. None was made.")
	}
	return act.Kept{Did: "made a token", Detail: name + ": " + strings.Join(scopes, ", "), Secret: &act.Secret{Heading: "Token " + name, Text: token,
		Note: "It isn't shown again: keep it where the program finds it. Send it as “Authorization: Bearer …”."}}, err
}

func endToken(ctx context.Context, c *act.Call, x ID) (act.Kept, error) {
	return act.Kept{Says: "The token opens nothing any more.", Did: "ended a token"}, c.Store.EndToken(ctx, c.Site.ID, x.ID)
}

func putAway(ctx context.Context, c *act.Call, _ struct{}) (act.Kept, error) {
	err := c.Store.PutAway(ctx, c.Site.ID, true)
	if errors.Is(err, store.ErrBusy) {
		err = trouble.UserError("A run is under way: stop it, or let it end, then put the site away.")
	}
	return act.Kept{Says: c.Site.Name + " is put away: nothing of it is lost, and nothing is done by itself.", Did: "put the site away", Detail: c.Site.Name, Gone: true}, err
}
