package registry

import (
	"io"
	"net/http"
	"strconv"
)

// Fault is what goes wrong with one request. The zero Fault is nothing.
type Fault struct {
	Status     int    // answer with it in place of the real answer
	RetryAfter int    // seconds, with Status
	Code       string // the registry's own error code, with Status
	Reset      bool   // cut the connection before any answer
	CutAfter   int64  // cut the connection behind so many bytes of the real answer's body
	TakeOnly   int64  // read so many bytes of the request's body, keep them, and cut the connection
	Flip       bool   // change the first byte of the real answer's body
	Hold       <-chan struct{}
	Call       func() // run before the request is dealt with
	As         string // deal with it as if this path were asked for
}

// strike does what comes before the real answer, and reports whether that was all.
func (f Fault) strike(w *recorder, r *http.Request) bool {
	if f.Call != nil {
		f.Call()
	}
	if f.As != "" {
		r.URL.Path = f.As
	}
	if f.Hold != nil {
		select {
		case <-f.Hold:
		case <-r.Context().Done():
			return true
		}
	}
	if f.TakeOnly > 0 {
		r.Body = io.NopCloser(io.MultiReader(io.LimitReader(r.Body, f.TakeOnly), broken{}))
	}
	switch {
	case f.Reset:
		cut()
	case f.Status != 0:
		if f.RetryAfter > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(f.RetryAfter))
		}
		refuse(w, f.Status, f.Code, "so it was told to answer")
		return true
	}
	return false
}

// broken is a connection on which nothing more comes.
type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// cut ends the connection without another byte. net/http takes this panic as the way to do so.
func cut() { panic(http.ErrAbortHandler) }

// recorder is the answer on its way out, with what the fault does to its body.
type recorder struct {
	http.ResponseWriter
	fault  Fault
	status int
	n      int64
}

func (w *recorder) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (w *recorder) Write(p []byte) (int, error) {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	if w.fault.Flip && w.n == 0 && len(p) > 0 {
		p = append([]byte{p[0] ^ 1}, p[1:]...)
	}
	if c := w.fault.CutAfter; c > 0 && w.n+int64(len(p)) > c {
		if _, err := w.ResponseWriter.Write(p[:max(c-w.n, 0)]); err == nil {
			http.NewResponseController(w.ResponseWriter).Flush()
		}
		cut()
	}
	n, err := w.ResponseWriter.Write(p)
	w.n += int64(n)
	return n, err
}
