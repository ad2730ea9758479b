package compare

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// A Shelf is where boots are chosen from by words.
type Shelf struct {
	Boots   []boot.Boot         // oldest first; they are numbered from 1
	Labels  map[string][]string // ids of boots, by label
	Changes map[int64]time.Time // by number, those that were carried out
	Steps   []Step              // of those changes in the order of time
	Zone    *time.Location      // of dates
}

// Choose returns the boots that a list of words with commas between them means.
// A word is a number or a range of them (3, 5-8), a day or a range of days
// (2026-11-20, 2026-11-20..2026-11-22). Or it is the beginning of a boot's id,
// or a label. change:N is the boots right before or right after that change, by
// after. Each boot is there once, in the order of time. An error says which
// word means nothing.
func (s Shelf) Choose(words string, after bool) ([]boot.Boot, error) {
	taken := map[string]bool{}
	for word := range strings.SplitSeq(words, ",") {
		some, err := s.one(strings.TrimSpace(word), after)
		if err != nil {
			return nil, err
		}
		if len(some) == 0 {
			return nil, fmt.Errorf("%q means no boot that is remembered", word)
		}
		for _, b := range some {
			taken[b.ID] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(s.Boots), func(b boot.Boot) bool {
		return !taken[b.ID]
	}), nil
}

func (s Shelf) one(word string, after bool) ([]boot.Boot, error) {
	if number, ok := strings.CutPrefix(word, "change:"); ok {
		return s.around(number, after)
	}
	if ids, ok := s.Labels[word]; ok {
		return s.those(func(i int, b boot.Boot) bool { return slices.Contains(ids, b.ID) }), nil
	}
	if from, to, ok := s.dates(word); ok {
		return s.those(func(_ int, b boot.Boot) bool {
			return !b.Began.Before(from) && b.Began.Before(to)
		}), nil
	}
	if from, to, ok := numbers(word); ok {
		if len(s.Boots) == 0 {
			return nil, errors.New("no boot is remembered")
		}
		if from < 1 || to > len(s.Boots) || from > to {
			return nil, fmt.Errorf("%q is not among the boots, which are numbered 1 to %d", word,
				len(s.Boots))
		}
		return s.Boots[from-1 : to], nil
	}
	fits := s.those(func(_ int, b boot.Boot) bool {
		return len(word) >= 4 &&
			strings.HasPrefix(strings.ToLower(b.ID), strings.ToLower(word))
	})
	if len(fits) > 1 {
		return nil, fmt.Errorf("%d boots have an id that begins with %q; give more of it",
			len(fits), word)
	}
	if len(fits) == 0 {
		return nil, fmt.Errorf("%q is not the number, date, id or label of a remembered boot, "+
			"nor change:N", word)
	}
	return fits, nil
}

func (s Shelf) those(fits func(int, boot.Boot) bool) (some []boot.Boot) {
	for i, b := range s.Boots {
		if fits(i, b) {
			some = append(some, b)
		}
	}
	return some
}

// around is the boots of the step that a change is in, or of the one before.
func (s Shelf) around(number string, after bool) ([]boot.Boot, error) {
	id, _ := strconv.ParseInt(number, 10, 64)
	at, ok := s.Changes[id]
	if !ok {
		return nil, fmt.Errorf("there is no change %q that was carried out", number)
	}
	place := 0
	for _, t := range s.Changes {
		if t.Before(at) {
			place++
		}
	}
	for i, step := range s.Steps {
		if step.First >= 0 && step.First <= place && place <= step.Last {
			if !after {
				step = s.Steps[i-1]
			}
			return slices.Concat(step.Boots, step.LeftOut), nil
		}
	}
	return nil, nil
}

func (s Shelf) dates(word string) (from, to time.Time, ok bool) {
	first, last, ranged := strings.Cut(word, "..")
	if !ranged {
		last = first
	}
	from, err := time.ParseInLocation(time.DateOnly, first, s.Zone)
	if err != nil {
		return from, to, false
	}
	to, err = time.ParseInLocation(time.DateOnly, last, s.Zone)
	return from, to.AddDate(0, 0, 1), err == nil
}

// numbers reads 7 or 3-7; longer ones are beginnings of ids.
func numbers(word string) (from, to int, ok bool) {
	first, last, ranged := strings.Cut(word, "-")
	if !ranged {
		last = first
	}
	from, err1 := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	return from, to, err1 == nil && err2 == nil && len(first) < 5 && len(last) < 5
}
