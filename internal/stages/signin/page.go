package signin

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/store"
)

// webAlone follows the name of a set.
const webAlone = " opens its web page; it has no ONVIF account"

// errNoPage says that a device's page doesn't answer, or shows nothing of accounts.
var errNoPage = errors.New("signin: no page to sign in to")

// tryWeb tries a set that ONVIF refused on the device's own page, where that asks for
// an account.
func (a *attempt) tryWeb(ctx context.Context, set store.SealedSet) error {
	err := a.opensPage(ctx, set)
	switch {
	case err == nil:
		a.web = &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username, Scheme: access.Web}
	case errors.Is(err, errNoPage):
		return nil
	}
	return noVerdict(err)
}

// webAgain asks once more whether what opened the device's page does.
func (a *attempt) webAgain(ctx context.Context, was access.Account) error {
	set, err := a.g.Store.Set(ctx, was.SetID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	err = a.opensPage(ctx, set)
	asked := !errors.Is(err, account.ErrNoTry) && !errors.Is(err, errNoPage)
	a.web = was.Still(err == nil, asked, time.Now().UTC())
	if !asked {
		return nil
	}
	return noVerdict(err)
}

// opensPage has a set open the device's own page; errNoPage where there is none that could be asked.
func (a *attempt) opensPage(ctx context.Context, set store.SealedSet) error {
	if a.seen.Page == "" {
		return errNoPage
	}
	if shown, err := page.Fetch(ctx, a.host, a.seen.Page, &a.pin); err != nil || !shown.Digest {
		return errNoPage
	}
	password, err := a.g.Accounts.Password(set)
	if err != nil {
		return err
	}
	return page.Opens(ctx, a.host, a.seen.Page, &a.pin, dial.Login{Username: set.Username, Password: password, Try: a.Try(set, access.Web, "")})
}
