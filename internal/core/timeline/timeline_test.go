package timeline

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

const sec = time.Second

func span(native, owner string, begin, end time.Duration, after ...string) boot.Span {
	return boot.Span{
		Native: native,
		Owner:  owner,
		Begin:  boot.Of(begin, boot.Bus),
		End:    boot.Of(end, boot.Bus),
		After:  after,
	}
}

// small is a boot of ten seconds: a and b one after the other on the way to the
// goal, c beside them, d held back by c, and a program of maria's.
func small() boot.Boot {
	return boot.Boot{
		Goal:   "goal",
		Ready:  boot.Of(10*sec, boot.Bus),
		Phases: []boot.Phase{{Name: "kernel", Took: 2 * sec}},
		Spans: []boot.Span{
			span("a", "", 2*sec, 5*sec),
			span("c", "", 2*sec, 4*sec),
			span("d", "", 4*sec, 6*sec, "c"),
			span("e", "", 5*sec, 7*sec, "a"),
			span("b", "", 5*sec, 9*sec, "a"),
			span("mail", "maria", 6*sec, 8*sec),
			span("goal", "", 10*sec, 10*sec, "b"),
		},
	}
}

func drawn(t Timeline) string {
	var b strings.Builder
	for _, g := range t.Groups {
		fmt.Fprintf(&b, "%s\n", g.Title)
		for _, r := range g.Rows {
			fmt.Fprintf(&b, "%s%s %v-%v of ready %v\n", strings.Repeat("  ", r.Depth+1), r.Label,
				r.Begin, r.End, r.Share)
		}
	}
	return b.String()
}

func TestRows(t *testing.T) {
	got, folded := Of(small(), 40)
	want := `Ready waited for, one after the other
  kernel 0s-2s of ready 2s
  a 2s-5s of ready 3s
  b 5s-9s of ready 4s
  goal 10s-10s of ready 1s
Meanwhile, not held back by anything known
  c 2s-4s of ready 0s
    d 4s-6s of ready 0s
Meanwhile, once a was done
  e 5s-7s of ready 0s
For maria
  mail 6s-8s of ready 0s
`
	if drawn(got) != want || folded != 1 {
		t.Errorf("%d folded:\n%s", folded, drawn(got))
	}
}

func TestTheCostliestRowsStay(t *testing.T) {
	b := small()
	for i := range 100 {
		b.Spans = append(b.Spans, span(fmt.Sprintf("x%d", i), "", 3*sec, 3*sec+50*time.Millisecond))
	}
	got, folded := Of(b, 5)
	rows := 0
	for _, g := range got.Groups {
		rows += len(g.Rows)
	}
	if rows != 2+5 || folded < 100 { // the kernel and the goal besides
		t.Errorf("%d rows, %d folded:\n%s", rows, folded, drawn(got))
	}
}

func TestMarks(t *testing.T) {
	b := small()
	b.Settled = boot.Settled{
		FromReady: boot.Of(20*sec, boot.Recorder),
		Login:     boot.Of(12*sec, boot.Recorder),
		FromLogin: boot.Of(5*sec, boot.Recorder),
	}
	got, _ := Of(b, 40)
	want := []Mark{
		{"ready", 10 * sec},
		{"login", 12 * sec},
		{"settled after login", 17 * sec},
		{"settled", 30 * sec},
	}
	if !slices.Equal(got.Marks, want) || got.End != 31*sec {
		t.Errorf("%v until %v", got.Marks, got.End)
	}
}

// TestACircle ends although each of two units claims to have waited for the
// other.
func TestACircle(t *testing.T) {
	b := small()
	b.Spans = append(b.Spans, span("x", "", sec, sec, "y"), span("y", "", sec, sec, "x"),
		span("z", "", sec, 3*sec, "x"))
	if got, _ := Of(b, 40); !strings.Contains(drawn(got), "z 1s-3s") {
		t.Error(drawn(got))
	}
	b.Goal, b.Ready = "", boot.Figure{}
	if got, _ := Of(b, 40); got.End != 10*sec || got.Marks != nil {
		t.Errorf("%v until %v", got.Marks, got.End)
	}
}
