// Package near finds the names that a misspelt one may have meant.
package near

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/agext/levenshtein"
)

// enough is how like two names have to be, from 0 to 1.
const enough = 0.6

// One is the candidate most like a word, "" when none is near.
func One(word string, candidates []string) string { return Nearer(word, candidates, enough) }

// Nearer is One with the likeness that is wanted at least, from 0 to 1.
func Nearer(word string, candidates []string, least float64) string {
	best, score := "", 0.0
	for _, c := range candidates {
		s := levenshtein.Similarity(strings.ToLower(word), strings.ToLower(c), nil)
		if letters(word) == letters(c) {
			s = 0.9 // the same letters in another order
		}
		if s > score {
			best, score = c, s
		}
	}
	if score < least {
		return ""
	}
	return best
}

// Few are candidates that are like a word, the nearest first, four at most. One that
// the word begins, or that begins it, counts as near.
func Few(word string, candidates []string) []string {
	like := map[string]float64{}
	var out []string
	for _, c := range candidates {
		s := levenshtein.Similarity(c, word, nil)
		if strings.HasPrefix(c, word) || strings.HasPrefix(word, c) && len(c) > 3 {
			s = max(s, 0.7)
		}
		if _, known := like[c]; s > enough && !known {
			like[c] = s
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(cmp.Compare(like[b], like[a]), strings.Compare(a, b)) })
	return out[:min(len(out), 4)]
}

// Sorted are all candidates, those most like a word first.
func Sorted(word string, candidates []string) []string {
	return slices.SortedFunc(slices.Values(candidates), func(a, b string) int {
		return cmp.Or(cmp.Compare(levenshtein.Similarity(b, word, nil), levenshtein.Similarity(a, word, nil)), strings.Compare(a, b))
	})
}

// DidYouMean asks for the candidate most like a word. Where none is, it names all of
// a few, and of many none.
func DidYouMean(word string, candidates []string) string {
	if n := One(word, candidates); n != "" {
		return fmt.Sprintf("did you mean %q?", n)
	}
	if len(candidates) > 0 && len(candidates) <= 12 {
		return "known here: " + strings.Join(candidates, ", ")
	}
	return ""
}

func letters(s string) string {
	r := []rune(strings.ToLower(s))
	slices.Sort(r)
	return string(r)
}
