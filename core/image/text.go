package image

import (
	"strconv"
	"strings"
	"unicode"
)

// maxShown bounds what an error repeats of its input.
const maxShown = 200

// Printable makes text from outside safe for a terminal and a log line: control characters become a visible escape,
// and what is longer than a line or two is cut. Registries are free to answer with anything.
func Printable(s string) string {
	cut := len(s) > maxShown
	if cut {
		s = s[:maxShown]
	}
	var b strings.Builder
	for _, r := range s {
		if unicode.IsPrint(r) {
			b.WriteRune(r)
			continue
		}
		b.WriteString(strings.Trim(strconv.QuoteRuneToASCII(r), "'"))
	}
	if cut {
		b.WriteString("…")
	}
	return b.String()
}

func quote(s string) string { return "“" + Printable(s) + "”" }

func count(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return strconv.Itoa(n) + " " + noun
}
