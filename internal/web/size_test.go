package web_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// More cameras than a page shows: their network unfolds part by part, the strip shows
// them all, and how many are worked on at once is the site's to say.
func TestAPageOfMoreThanItShows(t *testing.T) {
	t.Parallel()
	h := serveBulk(t, 260)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "settings")
	testbed.Eval[bool](p, "(document.getElementById('w-network').value = '24', true)")
	p.Press("Keep")
	p.Sees(20*time.Second, "Kept; everything is judged by it.")
	h.on(p, "find")
	h.run(p, "body", "Look at 4 networks")
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 262 cameras")
	if n := count(h, `select max((args->'at_once'->>'Network')::int) from river_job where (args->>'device')::bigint <> 0`); n != 24 {
		t.Errorf("%d devices of a network at once, want 24", n)
	}
	h.on(p, "clock")
	h.run(p, "body", "Read the clock of 262 cameras")

	h.on(p, "find")
	p.AccessibleIn("svg.tiles", "a folded network")
	first := h.Net.At(".160.0").String() + "/24"
	unfold := func() {
		js := "(() => { const a = [...document.querySelectorAll('svg.tiles a')].find(a => a.textContent.includes('" + first + ": 250 found')); if (!a) return false; location.href = a.getAttribute('href'); return true })()"
		testbed.Until(t, 20*time.Second, "its first part is there", func() bool { return testbed.Glance[bool](p, js) })
	}
	unfold()
	p.Sees(20*time.Second, "of Bulk sheds · 250 found")
	testbed.Until(t, 20*time.Second, "250 addresses of the part open a sheet", func() bool {
		return testbed.Glance[int](p, "document.querySelectorAll('svg[aria-label*=\""+first+"\"] a').length") == 250
	})
	p.AccessibleIn("svg[aria-label*=\""+first+"\"]", "an unfolded part")
	unfold()
	testbed.Until(t, 20*time.Second, "it is folded again", func() bool {
		return testbed.Glance[bool](p, "!document.body.innerText.includes('of Bulk sheds') && !location.search.includes('part')")
	})

	h.on(p, "clock")
	p.Sees(20*time.Second, "All 262 that were read", "262 cameras held against it")
	testbed.Until(t, 20*time.Second, "the page is whole", func() bool {
		return testbed.Glance[string](p,
			"document.readyState") == "complete"
	})
	drawn := testbed.Eval[int](p, "document.querySelectorAll('svg.strip a').length")
	if drawn == 0 || drawn > 40 {
		t.Errorf("%d marks on the strip", drawn)
	}
	p.AccessibleIn("#stripbox", "a crowd on the strip")
	testbed.Eval[bool](p, "(location.href = document.querySelector('svg.strip a[aria-label*=\" cameras, blocked\"]').getAttribute('href'), true)")
	testbed.Until(t, 20*time.Second, "those are listed", func() bool {
		q := testbed.Glance[string](p, "location.search")
		// A page that is still coming has some of its rows.
		return strings.Contains(q, "state%3Ablocked") && testbed.Glance[bool](p, "document.readyState == 'complete' && document.querySelectorAll('tr[data-row]').length > 0")
	})
	// Each that is blocked has its row.
	listed := testbed.Eval[string](p, "[...document.querySelectorAll('tr[data-row] th')].map(e => e.innerText.trim()).sort().join(', ')")
	var blocked string
	err := h.Store.Pool.QueryRow(t.Context(), `select string_agg(s.name, ', ' order by s.name collate "C") from mark m join source s on s.id = m.source_id
		where m.stage = 3 and m.state = 'blocked'`).Scan(&blocked)
	if err != nil || listed != blocked {
		t.Errorf("listed: %s\nblocked: %s (%v)", listed, blocked, err)
		rows, _ := h.Store.Pool.Query(t.Context(), `select s.name || ': ' || m.sentence || ' ' || m.derived_at || coalesce(f.value::text, ' not read') from mark m join source s on s.id = m.source_id
			left join fact f on f.device_id = s.device_id and f.name = 'clock.reading' where m.stage = 3 and m.state = 'blocked'`)
		all, err := pgx.CollectRows(rows, pgx.RowTo[string])
		t.Logf("%s %v", strings.Join(all, "\n"), err)
	}
}
