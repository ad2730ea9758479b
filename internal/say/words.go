package say

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// figure shows a figure; empty where it is not known.
func figure(f boot.Figure) string {
	if !f.Known {
		return ""
	}
	return render.Seconds(f.Value)
}

// Count says "1 item", "3 items".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// plural chooses between a word for one thing and one for several.
func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// exact shows a difference that may be one of milliseconds.
func exact(d time.Duration) string {
	if d = d.Abs(); d < 100*time.Millisecond {
		return render.Millis(d)
	}
	return render.Duration(d)
}

// Capital returns a text that begins with a capital letter.
func Capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// shift shows a difference as it stands in a column, with its sign.
func shift(d time.Duration) string {
	if d = d.Round(100 * time.Millisecond); d == 0 {
		return render.Seconds(0)
	}
	return fmt.Sprintf("%+.1f s", d.Seconds())
}

func signed(d time.Duration) string {
	if d < 0 {
		return "-" + render.Duration(d)
	}
	return "+" + render.Duration(d)
}

// moved says by how much something comes sooner, or later.
func moved(saved time.Duration) string {
	if saved < 0 {
		return render.Duration(saved) + " later"
	}
	return render.Duration(saved) + " sooner"
}

// signedOr0 shows the lower end of a saving, which may be none, or a loss.
func signedOr0(d time.Duration) string {
	if d < 0 {
		return "a loss of " + render.Duration(d)
	}
	return render.Duration(d)
}

func numbered(ids []int64) string {
	var all []string
	for _, id := range ids {
		all = append(all, fmt.Sprint(id))
	}
	if len(all) == 1 {
		return "change " + all[0]
	}
	return "changes " + strings.Join(all, ", ")
}

// MachineName is what people call the machine.
func MachineName(l *visit.Visit) string {
	if l.Host == "" {
		return "this machine"
	}
	return render.Clean(l.Host)
}

// share is a part of a whole in per cent; what is not nothing is never called
// 0.
func share(part, whole time.Duration) string {
	percent := 100 * part.Seconds() / whole.Seconds()
	if part > 0 && percent < 1 {
		return "under 1 %"
	}
	return fmt.Sprintf("%.0f %%", percent)
}

// Date shows a day that is written as time.DateOnly the way people date things.
func Date(written string) string {
	t, err := time.Parse(time.DateOnly, written)
	if err != nil {
		return render.Clean(written)
	}
	return t.Format("2 Jan 2006")
}

// Day shows an instant the way people date things, in the local time zone.
func Day(t time.Time) string {
	if t.IsZero() {
		return "an unknown day"
	}
	return t.Local().Format("2 Jan 2006, 15:04")
}

// InWords names changes as undo takes them.
func InWords(changes []change.Change) string {
	n := len(changes)
	if first, last := changes[0].ID, changes[n-1].ID; n > 2 && last-first == int64(n-1) {
		return fmt.Sprintf("%d-%d", first, last)
	}
	var words []string
	for _, c := range changes {
		words = append(words, strconv.FormatInt(c.ID, 10))
	}
	return strings.Join(words, " ")
}

// inSeconds is a time as a number for programs, in seconds.
func inSeconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// inBytes is an amount for programs; empty where it is not known.
func inBytes(a boot.Amount) string {
	if !a.Known {
		return ""
	}
	return fmt.Sprint(a.Bytes)
}

// figureInSeconds is a figure for programs; empty where it is not known.
func figureInSeconds(f boot.Figure) string {
	if !f.Known {
		return ""
	}
	return inSeconds(f.Value)
}
