package settings

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// reveal shows a set's password to a person who gives their own again. It is logged
// before it is shown.
func (pg *Page) reveal(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "set")
	if err != nil {
		return err
	}
	sets, err := pg.Store.Sets(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(sets, func(x store.SealedSet) bool { return x.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	inPlace := c.Request().Header.Get("Accept") == "application/json" // the page's script asks, and shows it where it was asked for
	why, err := pg.OwnPassword(c)
	if err != nil {
		return err
	}
	if why != "" {
		if err := pg.Audit(ctx, me, "was refused a password", sets[i].Name); err != nil {
			return err
		}
		if inPlace {
			return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": why + " The set's stays sealed."})
		}
		return pg.Back(c, why+" The set's stays sealed.")
	}
	secret, err := pg.Vault.Open(sets[i].Sealed, store.SetPlace(id))
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "was shown a password", sets[i].Name); err != nil {
		return err
	}
	if inPlace {
		c.Response().Header().Set("Cache-Control", "no-store")
		return c.JSON(http.StatusOK, map[string]string{"secret": secret})
	}
	return pg.Show(c, shell.Secret{Heading: "Password of " + sets[i].Name, Secret: secret,
		Note: "User name " + sets[i].Username + ". That you were shown it is in the log. Close this page when you are done.", Back: fmt.Sprintf("/sites/%d/settings", me.Member.ID)})
}
