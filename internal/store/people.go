package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/people"
)

// PersonByLogin finds an account and its password hash.
func (s *Store) PersonByLogin(ctx context.Context, login string) (people.Person, string, error) {
	type row struct {
		people.Person
		PasswordHash string
	}
	r, err := queryOne[row](ctx, s.db, `select id, login, name, password_hash from person where login = lower($1)`, login)
	return r.Person, r.PasswordHash, err
}

// Person finds an account.
func (s *Store) Person(ctx context.Context, id int64) (people.Person, error) {
	return queryOne[people.Person](ctx, s.db, `select id, login, name from person where id = $1`, id)
}

// PasswordOf is a person's password hash.
func (s *Store) PasswordOf(ctx context.Context, id int64) (string, error) {
	var hash string
	err := s.db.QueryRow(ctx, `select password_hash from person where id = $1`, id).Scan(&hash)
	return hash, err
}

// SetPassword gives a person another password and ends all sign-ins but keep.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string, keep int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update person set password_hash = $2 where id = $1`, id, hash); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update signin set ended_at = now() where person_id = $1 and id <> $2 and ended_at is null`, id, keep)
		return err
	})
}

// AddPerson makes an account, or gives an existing one this password.
func (s *Store) AddPerson(ctx context.Context, login, name, hash string) (int64, error) {
	var id int64
	err := s.db.QueryRow(ctx, `insert into person (login, name, password_hash) values (lower($1), $2, $3)
		on conflict (login) do update set name = excluded.name, password_hash = excluded.password_hash returning id`, login, name, hash).Scan(&id)
	return id, err
}

// Colleague is a person of a site with the role there.
type Colleague struct {
	people.Person
	Role people.Role
}

// PeopleOf lists the people of a site.
func (s *Store) PeopleOf(ctx context.Context, site int64) ([]Colleague, error) {
	return queryAll[Colleague](ctx, s.db, `select p.id, p.login, p.name, m.role from membership m join person p on p.id = m.person_id where m.site_id = $1 order by p.name, p.id`, site)
}

// ErrLastLead is returned for what would leave a site without a lead.
var ErrLastLead = errors.New("a site keeps at least one lead")

// SetRole changes a person's role on a site, or takes the person off it where role
// is empty. A site keeps a lead.
func (s *Store) SetRole(ctx context.Context, site, person int64, role people.Role) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		// Two leads who take each other off at once wait for each other here.
		if _, err := tx.Exec(ctx, `select 1 from site where id = $1 for update`, site); err != nil {
			return err
		}
		sql, args := `update membership set role = $3 where site_id = $1 and person_id = $2`, []any{site, person, role}
		if role == "" {
			sql, args = `delete from membership where site_id = $1 and person_id = $2`, []any{site, person}
		}
		tag, err := tx.Exec(ctx, sql, args...)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		var leads int
		if err := tx.QueryRow(ctx, `select count(*) from membership where site_id = $1 and role = 'lead'`, site).Scan(&leads); err != nil {
			return err
		}
		if leads == 0 {
			return ErrLastLead
		}
		return nil
	})
}

// Invitation to a site; who holds its code may join once.
type Invitation struct {
	ID        int64
	SiteID    int64
	Role      people.Role
	Note      string
	By        string
	CreatedAt time.Time
	ExpiresAt time.Time
	UsedAt    *time.Time
	UsedBy    string
}

// Invite keeps an invitation by the hash of its code.
func (s *Store) Invite(ctx context.Context, site, by int64, role people.Role, note string, hash []byte, expires time.Time) error {
	_, err := s.db.Exec(ctx, `insert into invitation (site_id, role, note, hash, person_id, expires_at) values ($1, $2, $3, $4, $5, $6)`, site, role, note, hash, by, expires)
	return err
}

// Invitations lists a site's newest invitations.
func (s *Store) Invitations(ctx context.Context, site int64) ([]Invitation, error) {
	return queryAll[Invitation](ctx, s.db, `select i.id, i.site_id, i.role, i.note, coalesce(p.name, '') by, i.created_at, i.expires_at, i.used_at, coalesce(u.name, '') used_by
		from invitation i left join person p on p.id = i.person_id left join person u on u.id = i.used_by where i.site_id = $1 order by i.id desc limit 20`, site)
}

// Withdraw ends an invitation that wasn't used.
func (s *Store) Withdraw(ctx context.Context, site, id int64) error {
	_, err := s.db.Exec(ctx, `delete from invitation where site_id = $1 and id = $2 and used_at is null`, site, id)
	return err
}

// ErrLoginTaken is returned for a login that somebody has.
var ErrLoginTaken = errors.New("that login is taken")

// Join uses an invitation: it makes the account and its membership, once. ErrNotFound
// where no live invitation has that hash.
func (s *Store) Join(ctx context.Context, hash []byte, login, name, password string) (person, site int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		var id int64
		var role people.Role
		err := tx.QueryRow(ctx, `select id, site_id, role from invitation where hash = $1 and used_at is null and expires_at > now() for update`, hash).Scan(&id, &site, &role)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		err = tx.QueryRow(ctx, `insert into person (login, name, password_hash) values (lower($1), $2, $3) on conflict (login) do nothing returning id`, login, name, password).Scan(&person)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrLoginTaken
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into membership (site_id, person_id, role) values ($1, $2, $3)`, site, person, role); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update invitation set used_at = now(), used_by = $2 where id = $1`, id, person)
		return err
	})
	return person, site, err
}

// SignIn is one sign-in of a person, on one browser.
type SignIn struct {
	ID      int64
	Address string
	Agent   string
	BeganAt time.Time
	SeenAt  time.Time
}

// BeginSignIn writes a sign-in down.
func (s *Store) BeginSignIn(ctx context.Context, person int64, address, agent string) (int64, error) {
	var id int64
	err := s.db.QueryRow(ctx, `insert into signin (person_id, address, agent) values ($1, $2, $3) returning id`,
		person, address, agent).Scan(&id)
	return id, err
}

// Idle is how long a sign-in may go unused before it ends.
const Idle = 4 * time.Hour

// SignedIn finds whom a live sign-in belongs to; ErrNotFound once it ended or went
// unused for too long. It keeps when it was last used, to the minute.
func (s *Store) SignedIn(ctx context.Context, id int64) (people.Person, error) {
	type row struct {
		people.Person
		Old bool
	}
	r, err := queryOne[row](ctx, s.db, `select p.id, p.login, p.name, i.seen_at < now() - interval '1 minute' old from signin i join person p on p.id = i.person_id where i.id = $1 and i.ended_at is null and i.seen_at > now() - $2::interval`, id, Idle)
	if err == nil && r.Old {
		err = s.lazily(ctx, `update signin set seen_at = now() where id = $1`, id)
	}
	return r.Person, err
}

// SignInStands says whether a sign-in is live and its person still a member of a site. It
// isn't used by being asked for.
func (s *Store) SignInStands(ctx context.Context, id, site int64) (stands bool, err error) {
	err = s.db.QueryRow(ctx, `select exists (select 1 from signin i join membership m on m.person_id = i.person_id join site s on s.id = m.site_id
		where i.id = $1 and m.site_id = $2 and s.put_away_at is null and i.ended_at is null and i.seen_at > now() - $3::interval)`, id, site, Idle).Scan(&stands)
	return stands, err
}

// SignIns lists a person's live sign-ins.
func (s *Store) SignIns(ctx context.Context, person int64) ([]SignIn, error) {
	return queryAll[SignIn](ctx, s.db, `select id, address, agent, began_at, seen_at from signin where person_id = $1 and ended_at is null and seen_at > now() - $2::interval order by seen_at desc limit 50`, person, Idle)
}

// EndSignIn ends one of a person's sign-ins, or all but keep where id is 0.
func (s *Store) EndSignIn(ctx context.Context, person, id, keep int64) error {
	_, err := s.db.Exec(ctx, `update signin set ended_at = now() where person_id = $1 and ended_at is null and ($2 = 0 and id <> $3 or id = $2)`, person, id, keep)
	return err
}

// Token of a program.
type Token struct {
	ID        int64
	SiteID    int64
	Name      string
	Scopes    []string
	By        string
	CreatedAt time.Time
	ExpiresAt *time.Time
	UsedAt    *time.Time
	EndedAt   *time.Time
}

// Live says whether the token opens anything now.
func (t Token) Live(now time.Time) bool {
	return t.EndedAt == nil && (t.ExpiresAt == nil || now.Before(*t.ExpiresAt))
}

const tokenSelect = `select t.id, t.site_id, t.name, t.scopes, coalesce(p.name, 'the command line') by, t.created_at, t.expires_at, t.used_at, t.ended_at from api_token t left join person p on p.id = t.person_id `

// AddToken keeps a token by its hash; ErrNamed where a live one of the site has its name.
func (s *Store) AddToken(ctx context.Context, site, by int64, name string, scopes []string, hash []byte,
	expires *time.Time) (int64, error) {
	var id int64
	return id, s.InTx(ctx, func(tx pgx.Tx) error {
		// One after the other: a form that is sent twice makes one.
		if _, err := tx.Exec(ctx, `select 1 from site where id = $1 for no key update`, site); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `insert into api_token (site_id, person_id, name, scopes, hash, expires_at) select $1, nullif($2::bigint, 0), $3, $4, $5, $6
			where not exists (select 1 from api_token where site_id = $1 and name = $3 and ended_at is null and (expires_at is null or expires_at > now())) returning id`,
			site, by, name, scopes, hash, expires).Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNamed
		}
		return err
	})
}

// ErrNamed is returned where something of that name is there already.
var ErrNamed = errors.New("store: the name is taken")

// TokenStands says whether a token still opens its site.
func (s *Store) TokenStands(ctx context.Context, id int64) (stands bool, err error) {
	err = s.db.QueryRow(ctx, `select exists (select 1 from api_token where id = $1 and ended_at is null and (expires_at is null or expires_at > now()))`, id).Scan(&stands)
	return stands, err
}

// TokenBy finds a live token by its hash and keeps when it was used, to the minute.
func (s *Store) TokenBy(ctx context.Context, hash []byte) (Token, error) {
	t, err := queryOne[Token](ctx, s.db, tokenSelect+`join site s on s.id = t.site_id
		where t.hash = $1 and t.ended_at is null and (t.expires_at is null or t.expires_at > now()) and s.put_away_at is null`, hash)
	if err == nil && (t.UsedAt == nil || time.Since(*t.UsedAt) > time.Minute) {
		_, err = s.db.Exec(ctx, `update api_token set used_at = now() where id = $1`, t.ID)
	}
	return t, err
}

// Tokens lists a site's tokens, live ones first.
func (s *Store) Tokens(ctx context.Context, site int64) ([]Token, error) {
	return queryAll[Token](ctx, s.db, tokenSelect+`where t.site_id = $1 order by t.ended_at nulls first, t.id desc limit 50`, site)
}

// EndToken makes a token open nothing from now on.
func (s *Store) EndToken(ctx context.Context, site, id int64) error {
	_, err := s.db.Exec(ctx, `update api_token set ended_at = now() where site_id = $1 and id = $2 and ended_at is null`, site, id)
	return err
}
