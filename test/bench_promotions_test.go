package test

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"testing"
	"time"

	"dovrak/client"
	sim "dovrak/standin/registry"
)

// BenchmarkListOfPromotions pages through 1,000 and through 100,000 promotions, by the API: the newest, some from the middle, those of
// one home of which there are few, and what waits for one who approves. Each figure is the median of twenty.
func BenchmarkListOfPromotions(b *testing.B) {
	w, id := peopled(b, "")
	w.onBench(build(b, 41, "2.14.0", both, 1<<10), "build-41")
	w.as(id, "Ragna").asks(b)
	c := client.Client{Server: "http://" + w.listen, Token: w.as(id, "Ylva").token}
	grow := func(from, to int) {
		w.sql(`WITH made AS (INSERT INTO works (id, kind, state, ended, requested_by, because, asked_at)
			SELECT gen_random_uuid(), 'promotion', 'verified', true, requested_by, 'danger 3', asked_at FROM works, generate_series(` +
			strconv.Itoa(from) + `, ` + strconv.Itoa(to) + `) WHERE kind = 'promotion' AND state = 'waiting' RETURNING id)
			INSERT INTO promotions (work_id, component, environment, digest, version, plan)
			SELECT m.id, CASE WHEN random() < 0.0003 THEN 'rare' ELSE p.component END, p.environment, p.digest, p.version, p.plan
			FROM made m, promotions p WHERE p.number = 1`)
	}
	asks := map[string]func(context.Context) (int, error){
		"newest": func(ctx context.Context) (int, error) {
			p, err := c.Promotions(ctx, client.Page{}, client.PromotionFilter{})
			return len(p.Items), err
		},
		"middle": func(ctx context.Context) (int, error) {
			p, err := c.Promotions(ctx, client.Page{Before: "500"}, client.PromotionFilter{})
			return len(p.Items), err
		},
		"rare": func(ctx context.Context) (int, error) {
			p, err := c.Promotions(ctx, client.Page{}, client.PromotionFilter{Component: "rare", Environment: "live"})
			return max(1, len(p.Items)), err
		},
		"mine": func(ctx context.Context) (int, error) {
			p, err := c.Promotions(ctx, client.Page{}, client.PromotionFilter{Mine: true})
			return len(p.Items), err
		},
	}
	last := 2
	for _, size := range []int{1_000, 100_000} {
		grow(last, size)
		last = size + 1
		w.sql("ANALYZE works, promotions")
		for name, ask := range asks {
			var took []time.Duration
			for range 20 {
				began := time.Now()
				if n, err := ask(b.Context()); err != nil || n == 0 {
					b.Fatalf("%s of %d: %d, %v", name, size, n, err)
				}
				took = append(took, time.Since(began))
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[10].Microseconds())/1000, "ms/"+name+"-of-"+strconv.Itoa(size))
		}
	}
}

// BenchmarkSwitch points two moving tags forth and back in three places that have all content, of which one answers late: from the first
// intent to the end, by the database's clock. A switch that went place by place would wait for the late one and the others.
func BenchmarkSwitch(b *testing.B) {
	x := newSides(b, "")
	places := x.inThree()
	x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3")
	late := 0 * time.Millisecond
	x.hut.breaks(func(*http.Request) sim.Fault {
		timer := time.NewTimer(late)
		return sim.Fault{Call: func() { <-timer.C }}
	})
	took := func(to string) (ms, requests float64) {
		for _, s := range places {
			s.since()
		}
		x.ok("rollback", "snowpack-model", "--in", "live", "--to", to, "--because", "x")
		for _, s := range places {
			requests += float64(len(s.since("/live/snowpack-model/")))
		}
		return float64(
			x.count(
				`SELECT CAST(1000 * extract(epoch FROM w.ended_at - min(c.intended_at)) AS integer) FROM works w JOIN tag_changes c ON c.work_id = w.id
			GROUP BY w.id ORDER BY w.asked_at DESC LIMIT 1`,
			),
		), requests
	}
	figures := map[string][]float64{}
	for b.Loop() {
		for _, late = range []time.Duration{0, 50 * time.Millisecond} {
			for _, to := range []string{"2.13.2", "2.14.0"} {
				ms, n := took(to)
				figures["ms/switch-late-"+late.String()] = append(figures["ms/switch-late-"+late.String()], ms)
				figures["requests/roll-back"] = append(figures["requests/roll-back"], n)
			}
		}
	}
	for name, of := range figures {
		slices.Sort(of)
		b.ReportMetric(of[len(of)/2], name)
	}
}
