package image

import "github.com/agnivade/levenshtein"

// Nearest gives the name that was probably meant by one that leads nowhere: the closest of the candidates, if only a few
// letters lie between; else nothing.
func Nearest(name string, candidates []string) string {
	best, least := "", max(2, len(name)/6)+1
	for _, c := range candidates {
		if d := levenshtein.ComputeDistance(name, c); d > 0 && d < least {
			best, least = c, d
		}
	}
	return best
}
