package waits

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
)

const sec = time.Second

func span(native string, begin, end time.Duration, after ...string) boot.Span {
	return boot.Span{
		Native: native,
		Begin:  boot.Of(begin, boot.Bus),
		End:    boot.Of(end, boot.Bus),
		After:  after,
		Labels: boot.Service,
	}
}

// small is a boot of ten seconds: a and b one after the other on the way to the
// goal. c is beside a, and e beside b, which computed for a second.
func small() boot.Boot {
	e := span("e", 5*sec, 7*sec, "a")
	e.Course = []boot.Use{{At: 5 * sec}, {At: 7 * sec, CPU: sec}}
	goal := span("goal", 10*sec, 10*sec, "b")
	goal.Labels = boot.Goal
	return boot.Boot{
		Goal:   "goal",
		Ready:  boot.Of(10*sec, boot.Bus),
		Phases: []boot.Phase{{Name: "kernel", Took: 2 * sec}},
		Spans: []boot.Span{
			span("a", 2*sec, 5*sec), span("c", 2*sec, 4*sec), e, span("b", 5*sec, 9*sec, "a"), goal,
		},
	}
}

func drawn(r Waits) string {
	var b strings.Builder
	for _, s := range r.Stretches {
		fmt.Fprintf(&b, "%v-%v %s", s.From, s.To, s.Label)
		for _, o := range s.Beside {
			fmt.Fprintf(&b, " %s %v", o.Label, o.CPU.Value)
		}
		fmt.Fprintf(&b, " +%d\n", s.More)
	}
	return b.String()
}

func TestStretches(t *testing.T) {
	got := Of(small(), 3)
	want := "0s-2s kernel +0\n2s-5s a c 0s +0\n5s-9s b e 1s +0\n9s-10s goal +0\n"
	if drawn(got) != want || got.Name != "ready" || got.End != 10*sec {
		t.Errorf("%s until %v:\n%s", got.Name, got.End, drawn(got))
	}
	b := small()
	for i := range 9 {
		b.Spans = append(b.Spans, span(fmt.Sprintf("x%d", i), 3*sec, 4*sec))
	}
	if got := Of(b, 4); len(got.Stretches[1].Beside) != 4 || got.Stretches[1].More != 6 {
		t.Errorf("%s", drawn(got))
	}
	b = small()
	b.Spans[4] = span("goal", 9*sec+10*time.Millisecond, 9*sec+10*time.Millisecond, "b")
	b.Ready = boot.Of(9*sec+10*time.Millisecond, boot.Bus)
	if got := Of(b, 3); len(got.Stretches) != 4 || got.Stretches[2].To != 9*sec {
		t.Errorf("a short one at the end stays, ones before become a part of the next:\n%s",
			drawn(got))
	}
	b.Goal, b.Ready = "", boot.Figure{}
	if got := Of(b, 3); got.Name != "" || len(got.Stretches) != 1 || got.Marks != nil {
		t.Errorf("never ready: %v\n%s", got.Marks, drawn(got))
	}
}

// TestTheLogin has somebody log in 12 s after it was ready, and something work
// for 10 s. The axis leaves the 12 s out, and the way goes on to usable.
func TestTheLogin(t *testing.T) {
	b := small()
	b.Logins = []boot.Login{{User: "maria", Began: 22 * sec}}
	b.Course = []boot.Use{{At: 0}, {At: 9 * sec, CPU: 9 * sec}, {At: 22 * sec, CPU: 9 * sec},
		{At: 32 * sec, CPU: 19 * sec}, {At: 90 * sec, CPU: 19 * sec}}
	b.Programs = []boot.Program{
		{Name: "session", Owner: "maria", Parent: -1, Began: 22 * sec, CPU: sec,
			Course: []boot.Use{{At: 23 * sec, CPU: sec}}},
		{Name: "sync", Owner: "maria", Parent: 0, Began: 23 * sec, CPU: 9 * sec,
			Course: []boot.Use{{At: 23 * sec}, {At: 32 * sec, CPU: 9 * sec}}},
	}
	got := Of(b, 5)
	marks := []Mark{{"ready", 10 * sec}, {"login", 10 * sec}, {"usable", 20 * sec}}
	last := got.Stretches[len(got.Stretches)-1]
	if !slices.Equal(got.Marks, marks) || got.LeftOut != 12*sec || got.Name != "usable" ||
		got.End != 20*sec || last.Label != "the login of maria" || last.Took() != 10*sec ||
		len(last.Beside) != 2 || last.Beside[0].CPU.Value != 9*sec ||
		b.Programs[1].Began != 23*sec {
		t.Errorf("%v until %v without %v:\n%s", got.Marks, got.End, got.LeftOut, drawn(got))
	}
	sum := time.Duration(0)
	for i, s := range got.Stretches {
		sum += s.Took()
		if i > 0 && s.From != got.Stretches[i-1].To {
			t.Errorf("stretch %d begins at %v", i, s.From)
		}
	}
	if sum != got.End {
		t.Errorf("the stretches add up to %v of %v", sum, got.End)
	}
	b.Logins, b.Programs = nil, nil
	b.Course = append(b.Course[:2], boot.Use{At: 12 * sec, CPU: 12 * sec},
		boot.Use{At: 40 * sec, CPU: 12 * sec})
	if got := Of(b, 5); got.Name != "usable" || got.End != 12*sec ||
		got.Stretches[len(got.Stretches)-1].Label != "until it was quiet" {
		t.Errorf("without a login:\n%s", drawn(got))
	}
}

// TestACircle ends although each of two units claims to have waited for the
// other.
func TestACircle(t *testing.T) {
	b := small()
	b.Spans = append(b.Spans, span("x", sec, sec, "y"), span("y", sec, sec, "x"))
	b.Spans[3].After = []string{"a", "x"}
	if got := Of(b, 40); got.End != 10*sec {
		t.Error(drawn(got))
	}
}
