package test

import (
	"testing"
)

// BenchmarkBuildsThatRace closes 50 and then 200 builds of one component at the same moment, against one moving tag. All end,
// the newest has the tag, and the time grows no faster than the number: four times as many may take six times as long.
func BenchmarkBuildsThatRace(b *testing.B) {
	for b.Loop() {
		w := newWorld(b)
		w.ok("registry", "edit", "forge", "--requests-per-second", "10000")
		few := w.race(b, 1, 50)
		many := w.race(b, 51, 250)
		asked := len(w.forge.since("/v2/"))
		b.ReportMetric(few.Seconds(), "s/50")
		b.ReportMetric(many.Seconds(), "s/200")
		b.ReportMetric(float64(asked)/200, "requests/build")
		if ratio := many.Seconds() / few.Seconds(); ratio > 6 {
			b.Errorf("200 builds took %.1f times as long as 50 (%v, %v)", ratio, few, many)
		}
		if n := w.count("SELECT count(*) FROM works WHERE kind = 'build' AND state = 'verified'"); n != 250 {
			b.Errorf("%d of 250 builds are closed", n)
		}
		if n := w.count(`SELECT coalesce(max(b.run), 0) FROM tag_changes c JOIN builds b ON b.digest = c.to_digest WHERE c.number =
			(SELECT max(number) FROM tag_changes WHERE tag = 'main' AND outcome = 'done')`); n != 250 {
			b.Errorf("main is build %d", n)
		}
		w.kill()
	}
}
