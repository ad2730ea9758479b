package unit

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A calendar is a calendar event expression, systemd.time(7).
type calendar struct {
	weekdays [7]bool
	anyDay   bool
	year     field
	month    field
	day      field
	fromEnd  bool // days count from the end of the month
	hour     field
	minute   field
	second   field
	zone     *time.Location
}

// A field is the values that one part accepts.
type field struct {
	any  bool
	runs []run
}

type run struct{ from, to, step int } // to -1: no end; step 0: from alone up to to

func (f field) accepts(v int) bool {
	if f.any {
		return true
	}
	for _, r := range f.runs {
		if v < r.from || r.to >= 0 && v > r.to {
			continue
		}
		if r.step == 0 || (v-r.from)%r.step == 0 {
			return true
		}
	}
	return false
}

// lastYear is the last one that the service manager knows.
const lastYear = 2199

var shorthands = map[string]string{
	"minutely":      "*-*-* *:*:00",
	"hourly":        "*-*-* *:00:00",
	"daily":         "*-*-* 00:00:00",
	"monthly":       "*-*-01 00:00:00",
	"weekly":        "Mon *-*-* 00:00:00",
	"yearly":        "*-01-01 00:00:00",
	"annually":      "*-01-01 00:00:00",
	"anually":       "*-01-01 00:00:00",
	"quarterly":     "*-01,04,07,10-01 00:00:00",
	"semiannually":  "*-01,07-01 00:00:00",
	"semi-annually": "*-01,07-01 00:00:00",
	"biannually":    "*-01,07-01 00:00:00",
	"bi-annually":   "*-01,07-01 00:00:00",
}

// parseCalendar reads an expression; times without a zone are in local.
func parseCalendar(text string, local *time.Location) (calendar, error) {
	c := calendar{anyDay: true, zone: local}
	words := strings.Fields(text)
	if n := len(words); n > 1 {
		last := words[n-1]
		zone, err := time.LoadLocation(last)
		named := last[0] >= 'A' && last[0] <= 'Z' && !isWeekday(last)
		switch {
		case named && err == nil:
			c.zone, words = zone, words[:n-1]
		case named && strings.Contains(last, "/"): // this computer may know fewer zones
			words = words[:n-1]
		}
	}
	if len(words) == 1 {
		if long, ok := shorthands[strings.ToLower(words[0])]; ok {
			words = strings.Fields(long)
		}
	}
	if len(words) > 0 && isWeekday(words[0]) {
		if err := c.setWeekdays(words[0]); err != nil {
			return c, err
		}
		words = words[1:]
	}
	date, clock := "*-*-*", "00:00:00"
	switch {
	case len(words) > 2 || len(words) == 0 && c.anyDay:
		return c, fmt.Errorf("%q is not a calendar event", text)
	case len(words) == 2:
		date, clock = words[0], words[1]
	case len(words) == 1 && strings.Contains(words[0], ":"):
		clock = words[0]
	case len(words) == 1 && strings.HasPrefix(words[0], "@"):
		n, err := strconv.ParseInt(words[0][1:], 10, 40)
		if err != nil {
			return c, fmt.Errorf("%q is not an instant", text)
		}
		c.zone = time.UTC
		at := time.Unix(n, 0).UTC()
		date, clock = at.Format(time.DateOnly), at.Format(time.TimeOnly)
	case len(words) == 1:
		date = words[0]
	}
	return c, errors.Join(c.setDate(date), c.setClock(clock))
}

var weekdayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func weekday(s string) (int, bool) {
	s = strings.ToLower(s)
	if len(s) < 3 {
		return 0, false
	}
	long := []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
	i := slices.Index(weekdayNames, s[:3])
	return i, i >= 0 && (len(s) == 3 || s == long[i])
}

func isWeekday(s string) bool {
	first, _, _ := strings.Cut(s, ",")
	first, _, _ = strings.Cut(first, "..")
	_, ok := weekday(first)
	return ok
}

func (c *calendar) setWeekdays(text string) error {
	c.anyDay = false
	for part := range strings.SplitSeq(text, ",") {
		if part == "" {
			continue
		}
		low, high, ranged := strings.Cut(part, "..")
		from, ok1 := weekday(low)
		to, ok2 := from, true
		if ranged {
			to, ok2 = weekday(high)
		}
		if !ok1 || !ok2 {
			return fmt.Errorf("%q is not a day of the week", part)
		}
		for d := from; ; d = (d + 1) % 7 {
			c.weekdays[d] = true
			if d == to {
				break
			}
		}
	}
	return nil
}

func (c *calendar) setDate(text string) error {
	if i := strings.Index(text, "~"); i >= 0 {
		c.fromEnd = true
		text = text[:i] + "-" + text[i+1:]
	}
	parts := strings.Split(text, "-")
	if len(parts) == 2 {
		parts = append([]string{"*"}, parts...)
	}
	if len(parts) != 3 {
		return fmt.Errorf("%q is not a date", text)
	}
	var err1, err2, err3 error
	c.year, err1 = parseField(parts[0], 1970, lastYear)
	c.month, err2 = parseField(parts[1], 1, 12)
	c.day, err3 = parseField(parts[2], 1, 31)
	for i, r := range c.year.runs { // two digits mean this century or the last
		if r.from < 70 {
			c.year.runs[i].from += 2000
		} else if r.from < 100 {
			c.year.runs[i].from += 1900
		}
		if r.to >= 0 && r.to < 100 {
			c.year.runs[i].to = c.year.runs[i].from
		}
	}
	return errors.Join(err1, err2, err3)
}

func (c *calendar) setClock(text string) error {
	parts := strings.Split(text, ":")
	if len(parts) == 2 {
		parts = append(parts, "00")
	}
	if len(parts) != 3 {
		return fmt.Errorf("%q is not a time of day", text)
	}
	var err1, err2, err3 error
	c.hour, err1 = parseField(parts[0], 0, 23)
	c.minute, err2 = parseField(parts[1], 0, 59)
	whole, _, _ := strings.Cut(parts[2], ".") // fractions of a second do not matter here
	c.second, err3 = parseField(whole, 0, 59)
	return errors.Join(err1, err2, err3)
}

func parseField(text string, low, high int) (field, error) {
	var f field
	for part := range strings.SplitSeq(text, ",") {
		span, step, stepped := strings.Cut(part, "/")
		r := run{to: -1}
		var err error
		if stepped {
			if r.step, err = strconv.Atoi(step); err != nil || r.step < 1 {
				return f, fmt.Errorf("%q is not a step", part)
			}
		}
		switch from, to, ranged := strings.Cut(span, ".."); {
		case span == "*":
			r.from = low
			if !stepped {
				f.any = true
			}
		case ranged:
			var err2 error
			r.from, err = strconv.Atoi(from)
			r.to, err2 = strconv.Atoi(to)
			err = errors.Join(err, err2)
			if err == nil && (r.to > high || r.to < r.from) {
				return f, fmt.Errorf("%q is out of range", part)
			}
			if err == nil && r.step == 0 {
				r.step = 1
			}
		default:
			if r.from, err = strconv.Atoi(span); !stepped {
				r.to = r.from
			}
		}
		if err != nil || r.from < 0 || r.from > high {
			return f, fmt.Errorf("%q is out of range", part)
		}
		f.runs = append(f.runs, r)
	}
	return f, nil
}

// next returns the first instant after t at which the event is due; false where
// none is within sight.
func (c calendar) next(t time.Time) (time.Time, bool) {
	t = t.In(c.zone).Add(time.Second).Truncate(time.Second)
	day := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, c.zone)
	for ; day.Year() <= lastYear; day = day.AddDate(0, 0, 1) {
		for day.Year() <= lastYear && !c.year.accepts(day.Year()) {
			day = time.Date(day.Year()+1, 1, 1, 0, 0, 0, 0, c.zone)
		}
		if !c.onDay(day) {
			continue
		}
		for h := range 24 {
			if !c.hour.accepts(h) {
				continue
			}
			for min := range 60 {
				if !c.minute.accepts(min) {
					continue
				}
				for s := range 60 {
					if !c.second.accepts(s) {
						continue
					}
					at := time.Date(day.Year(), day.Month(), day.Day(), h, min, s, 0, c.zone)
					if !at.Before(t) {
						return at, true
					}
				}
			}
		}
	}
	return time.Time{}, false
}

func (c calendar) onDay(day time.Time) bool {
	number := day.Day()
	if c.fromEnd {
		number = time.Date(day.Year(), day.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day() - number + 1
	}
	return (c.anyDay || c.weekdays[day.Weekday()]) && c.year.accepts(day.Year()) &&
		c.month.accepts(int(day.Month())) && c.day.accepts(number)
}
