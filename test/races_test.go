package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"dovrak/api/wire"
	"dovrak/client"
	sim "dovrak/standin/registry"

	"github.com/jackc/pgx/v5"
)

// TestManyPointOneTag: writers who race for one tag take turns. Each change begins where the one before ended, and the
// registry means at the end what the trail says.
func TestManyPointOneTag(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const writers = 6
	var refs [writers]string
	for i := range refs {
		refs[i] = w.push(build(t, 40+i, fmt.Sprintf("2.%d.0", i), both, 1<<10), fmt.Sprintf("build-%d", 40+i))
	}
	var wg sync.WaitGroup
	for i, ref := range refs {
		wg.Go(func() {
			_, err := w.client().Point(t.Context(), wire.NewPoint{Image: ref, Tags: []string{"trial-ready"}, Because: fmt.Sprint("writer ", i)})
			if err != nil {
				t.Errorf("writer %d: %v", i, err)
			}
		})
	}
	wg.Wait()
	page, err := w.client().Trail(t.Context(), client.TrailOf{Subject: "forge/bench/snowpack-model:trial-ready"}, clientPage(50))
	must(t, err)
	if len(page.Items) != writers {
		t.Fatalf("%d changes on the trail, want %d", len(page.Items), writers)
	}
	for i, e := range page.Items { // newest first
		before := ""
		if i+1 < len(page.Items) {
			before = page.Items[i+1].Facts["to"]
		}
		if e.Act != "tag pointed" || e.Facts["from"] != before {
			t.Errorf("change %d: %s from %.19s, but it meant %.19s", i, e.Act, e.Facts["from"], before)
		}
	}
	img, err := w.client().Image(t.Context(), "forge/bench/snowpack-model:trial-ready", client.LookAt{})
	must(t, err)
	if img.Digest != page.Items[0].Facts["to"] {
		t.Errorf("it means %s; the trail says %s", img.Digest, page.Items[0].Facts["to"])
	}
}

// TestTwoAskForOneEnvironment at the same time: one promotion is taken on, the other refused with its rule.
func TestTwoAskForOneEnvironment(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	hold := make(chan struct{})
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPost {
			return sim.Fault{Hold: hold}
		}
		return sim.Fault{}
	})
	results := make(chan result, 2)
	for range 2 {
		go func() { results <- w.run("promote", "snowpack-model", "--to", "live", "--because", "x", "--detach") }()
	}
	a, b := <-results, <-results
	if a.code > b.code {
		a, b = b, a
	}
	if a.code != 0 || b.code != 3 || !strings.Contains(b.err, "promotions to one environment never interleave") {
		t.Errorf("%d %s\n%d %s", a.code, a.err, b.code, b.err)
	}
	close(hold)
	w.hut.breaks(nil)
	w.until(wait, "the promotion has ended", func() bool { return w.promotion(1).State == "verified" })
}

// TestSecretsAreNowhere: neither the registries' secret nor a token stands in the database, in the log, or in what a
// registry is read back as.
func TestSecretsAreNowhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	token := strings.TrimSpace(w.ok("token", "issue", "Tormod", "--may", "read"))
	w.in("wrong-"+secret).run("registry", "add", "again", "--address", w.hut.URL, "--account", "dovrak", "--secret-file", "-")
	said := w.log() + w.ok("registry", "list", "-o", "json") + w.ok("trail", "-o", "json") + w.ok("token", "list", "-o", "json")

	ctx := t.Context()
	c, err := pgx.Connect(ctx, w.db)
	must(t, err)
	defer c.Close(ctx)
	rows, err := c.Query(ctx, "SELECT tablename FROM pg_tables WHERE schemaname = 'public'")
	must(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	must(t, err)
	if len(tables) < 15 {
		t.Fatalf("only %d tables were looked at", len(tables))
	}
	for _, table := range tables {
		rows, err := c.Query(ctx, "SELECT x::text FROM "+pgx.Identifier{table}.Sanitize()+" x")
		must(t, err)
		texts, err := pgx.CollectRows(rows, pgx.RowTo[string])
		must(t, err)
		said += strings.Join(texts, "\n")
	}
	key, err := os.ReadFile(filepath.Join(w.dir, "key"))
	must(t, err)
	for name, s := range map[string]string{"a registry's secret": secret, "the administrator's token": w.token,
		"another token": token, "the key": strings.TrimSpace(string(key))} {
		if strings.Contains(said, s) {
			t.Errorf("%s can be read", name)
		}
	}
}
