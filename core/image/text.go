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
	s = visible(s, unicode.IsPrint)
	if cut {
		s += "…"
	}
	return s
}

// Visible is Printable for text that is shown whole, line by line.
func Visible(s string) string {
	return visible(s, func(r rune) bool { return r == '\n' || unicode.IsPrint(r) })
}

func visible(s string, fine func(rune) bool) string {
	if strings.IndexFunc(s, func(r rune) bool { return !fine(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if fine(r) {
			b.WriteRune(r)
			continue
		}
		b.WriteString(strings.Trim(strconv.QuoteRuneToASCII(r), "'"))
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
