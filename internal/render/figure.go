package render

import (
	"strings"
	"time"
)

// Figures reports whether bars and points can be drawn: on a terminal, not in a
// pipe.
func (s *Screen) Figures() bool { return s.width > 0 }

// Bar draws a bar from one moment to another on an axis that ends at full; the
// shortest is one sign long.
func (s *Screen) Bar(from, to, full time.Duration, columns int) string {
	if full <= 0 || columns <= 0 || to < from {
		return ""
	}
	at := func(d time.Duration) int { return int(float64(d) / float64(full) * float64(columns)) }
	begin := min(max(0, at(from)), columns-1)
	end := min(max(begin+1, at(to)), columns)
	return strings.Repeat(" ", begin) + strings.Repeat("━", end-begin)
}

// Points draws values as points on an axis from low to high; several in one
// place show their number.
func (s *Screen) Points(values []time.Duration, low, high time.Duration, columns int) string {
	if columns <= 0 || high <= low {
		return ""
	}
	count := make([]int, columns)
	for _, v := range values {
		at := int(float64(v-low) / float64(high-low) * float64(columns-1))
		count[min(max(0, at), columns-1)]++
	}
	var b strings.Builder
	for _, n := range count {
		switch {
		case n == 0:
			b.WriteString("·")
		case n == 1:
			b.WriteString("●")
		default:
			b.WriteString(digit(n))
		}
	}
	return b.String()
}

func digit(n int) string { return string(rune('0' + min(n, 9))) }
