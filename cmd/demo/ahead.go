package main

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"

	"dovrak/standin/registry"
)

// takenBefore is how much of a layer the hut takes before its line breaks, in bytes.
const takenBefore = 3 << 20

// mountainLine is the line to the hut, which can be cut.
type mountainLine struct{ state atomic.Int32 }

// How the line is.
const (
	lineStands   int32 = iota
	lineWillFail       // in the middle of the next layer
	lineIsCut
	lineWillDrop // when tags are pointed
	lineDrops    // what is asked of the standing tag
)

// fault is what the line does to a request.
func (l *mountainLine) fault(_ int, r *http.Request) registry.Fault {
	large := r.ContentLength > takenBefore
	switch {
	case l.state.Load() == lineIsCut:
		return registry.Fault{Reset: true}
	case r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, "/manifests/2.14") && l.state.CompareAndSwap(lineWillDrop, lineDrops):
	case l.state.Load() == lineDrops && strings.HasSuffix(r.URL.Path, "/manifests/live"):
		return registry.Fault{Reset: true}
	case large && l.state.CompareAndSwap(lineWillFail, lineIsCut):
		return registry.Fault{TakeOnly: takenBefore}
	}
	return registry.Fault{}
}

// cutAtSwitch promotes a build to live while the line to the hut is lost at the very moment in which the standing tag is pointed: the data
// centre goes back to what it meant, and when the line stands again the same promotion goes through.
func (w *world) cutAtSwitch(ctx context.Context, r pipelineRun) error {
	n, err := w.asked(ctx, "Ragna", r.component, "live", r.because)
	if err != nil {
		return err
	}
	w.line.state.Store(lineWillDrop)
	if err := w.agrees(ctx, "Ylva", n, "the hut is told"); err != nil {
		return err
	}
	_, err = w.command(ctx, "Ragna", "", "promotions", "watch", n)
	w.line.state.Store(lineStands)
	if err == nil || !strings.Contains(err.Error(), "every place means what it did before") {
		return fmt.Errorf("the line to the hut was cut at the switch, and promotion %s was not taken back: %w", n, err)
	}
	fmt.Fprintf(w.said, "  taken back %s %s: the line to the hut is cut at the switch, and ridge goes back\n", r.component, r.version)
	out, err := w.command(ctx, "Ragna", "", "resume", n)
	if err == nil {
		fmt.Fprintf(w.said, "  promoted   %s %s to live, resumed: %s\n", r.component, r.version, lastLine(out))
	}
	return err
}

// ahead brings a build to the hut before it is promoted there. The line is cut in the middle of a layer for so long that the
// copy gives up; resumed, it goes on where it was.
func (w *world) ahead(ctx context.Context, r pipelineRun) error {
	w.line.state.Store(lineWillFail)
	from := fmt.Sprintf("forge/bench/%s:build-%d", r.component, r.number)
	_, err := w.command(ctx, "Ragna", "", "copy", from, "hut/live/"+r.component, "--platforms", strings.Join(r.platforms, ","))
	if err == nil {
		return fmt.Errorf("the line to the hut was cut, and the copy of %s did not notice", from)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	fmt.Fprintf(w.said, "  copy 1     %s %s ahead to the hut: the line is cut in the middle of a layer\n", r.component, r.version)
	w.line.state.Store(lineStands)
	out, err := w.command(ctx, "Ragna", "", "copies", "resume", "1")
	if err == nil {
		fmt.Fprintf(w.said, "  resumed    it goes on where it was: %s\n", lastLine(out))
	}
	return err
}
