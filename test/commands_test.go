package test

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestCommandsTell: each command that shows something says what there is to know, and gives the same as JSON and as YAML.
func TestCommandsTell(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	x.promote()
	x.ok("rollback", "snowpack-model", "--in", "live", "--because", "wrong layer at the west face")
	b := run(43, "2.15.0-rc.1")
	x.started(b, "--link", "https://pipeline.skarvind.example/43")
	x.ok("build", "part", name(b), "--platform", both[0], "--image", x.part(b, both[0]), "--emulated", "--seconds", "212")
	ref := "forge/bench/snowpack-model@" + x.new.Index.Digest.String()
	x.ok("vouch", ref, "--claim", "scan", "--verdict", "failed", "--note", "an old library", "--for", "24h")
	x.declare("hut/spare/model")
	x.ok("copy", ref, "hut/spare/model")
	x.ok("tags", "except", "snowpack-model", "2.13.*", "--because", "the bench keeps no more")
	old, now := x.old.Index.Digest.Encoded()[:12], x.new.Index.Digest.Encoded()[:12]
	for _, tt := range []struct{ args, says string }{ // what it says is split at |
		{"show " + ref, "index of 2 platforms|2.14.0|scan failed|an old library|exact"},
		{"show ridge/live/snowpack-model:live --platform linux/arm64", "linux/arm64|also 2.13.2"},
		{"where " + now, "forge/bench/snowpack-model|ridge/live/snowpack-model|hut/spare/model"},
		{"tags ridge/live/snowpack-model", "2.13.2|2.14.0|2.x|live|fixed|standing"},
		{"tags --across snowpack-model", "2.14.0|ridge|hut"},
		{"compare ridge/live/snowpack-model:2.13.2 ridge/live/snowpack-model:2.14.0", "2.13.2|2.14.0|linux/arm64"},
		{"build list", "snowpack-model/43|open|1 of 2|2.15.0-rc.1"},
		{"build show snowpack-model/43", "linux/amd64|212 s|emulated|linux/arm64|awaited until|https://pipeline.skarvind.example/43"},
		{"build rules snowpack-model", "build-{number}|build-43|made once, and never pointed elsewhere|live"},
		{"copies", "hut/spare/model|verified"},
		{"promotions", "3  verified|roll back|2.13.2|wrong layer at the west face"},
		{"promotions show 2", "2.14.0 to live|stands there|" + old + "|would stand there|" + now + "|amd64, arm64|seen (UTC)"},
		{"promotions show 3", "roll back 3  verified|2.13.2 in live|wrong layer at the west face|✓  hut/live/snowpack-model:live"},
		{"promotions --to-review", "Nothing waits to be reviewed"},
		{"rollback snowpack-model --in live --to 2.14.0 --plan", "back to 2.14.0|0 pieces|" + old + "|→|" + now},
		{"promote snowpack-model --to live --again --plan", "2.14.0 to|again|→|="},
		{"standing", "rolled back|2.13.2|ridge|hut"},
		{"standing snowpack-model", "rolled back by 3|stands|from its build"},
		{"trail --promotion 3", "roll back done|tag pointed|roll back 3: wrong layer at the west face|roll back asked"},
		{"promotions --waits-for-me", "Nothing waits for you"},
		{"trail --component snowpack-model --limit 3", "exception 1: snowpack-model 2.13.*|vouched|snowpack-model/43 2.15.0-rc.1|--before"},
		{"trail ridge/live/snowpack-model:live", "roll back 3|" + now + "|→"},
		{"registry list", "forge|hut|ridge"},
		{"registry check ridge --repository live/snowpack-model", "push|pull|sign-in"},
		{"registry destinations", "hut/spare/model|live/"},
		{"charter show", "standing: live"},
		{"charter show --words", "live says what stands here; {version} never moves|ridge/live/{component}|whoever may roll back at all"},
		{"charter versions", "administrator"},
		{"token list", "administrator"},
		{"people", "Nobody has an account yet|dovrak people add"},
		{"whoami", "administrator|promote"},
	} {
		args := strings.Fields(tt.args)
		shown := func(more ...string) string {
			r := x.run(append(args, more...)...)
			if r.code != 0 && r.code != 5 || r.err != "" { // 5: it found a difference
				t.Errorf("%s ended with %d: %s", tt.args, r.code, r.err)
			}
			return r.out
		}
		out := shown()
		for _, says := range strings.Split(tt.says, "|") {
			if !strings.Contains(out, says) {
				t.Errorf("%s does not say %q:\n%s", tt.args, says, out)
			}
		}
		if strings.Contains(out, "\x1b") {
			t.Errorf("%s draws colours where there is no terminal:\n%q", tt.args, out)
		}
		var v map[string]any
		if err := json.Unmarshal([]byte(shown("-o", "json")), &v); err != nil || len(v) == 0 {
			t.Errorf("%s as JSON: %v", tt.args, err)
		}
		if y := shown("-o", "yaml"); strings.HasPrefix(y, "{") || !strings.Contains(y, ":") {
			t.Errorf("%s as YAML: %s", tt.args, y)
		}
	}
}
