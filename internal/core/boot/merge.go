package boot

import (
	"cmp"
	"slices"
	"time"
)

// Merge puts together what several sources know, by the boots' ids. Of each
// figure the finest is kept. The clocks of the service manager go before those
// of the log. What was used at the end of the boot goes before what was used
// later. The boots come in the order of time.
func Merge(sources ...[]Boot) []Boot {
	at := map[string]int{}
	var all []Boot
	for _, source := range sources {
		for _, b := range source {
			i, known := at[b.ID]
			if !known {
				at[b.ID] = len(all)
				all = append(all, b)
				continue
			}
			switch { // who knows of no question counted the waiting for its answer
			case len(b.Waits) == 0:
				b = TakeOut(b, asked(all[i].Waits))
			case len(all[i].Waits) == 0:
				all[i] = TakeOut(all[i], asked(b.Waits))
			}
			all[i] = join(all[i], b)
		}
	}
	slices.SortStableFunc(all, func(a, b Boot) int { return a.Began.Compare(b.Began) })
	return all
}

// Of the same figure, sources in the order of trust.
var (
	clocks = []Source{Bus, Recorder, Log}
	// the log's is of when it stopped, the bus's of any time after the boot
	totals = []Source{Recorder, Log, Bus}
)

func rank(from Source, order []Source) int {
	if i := slices.Index(order, from); i >= 0 {
		return i
	}
	return len(order)
}

func finer(a, b Figure, order []Source) Figure {
	if !a.Known || b.Known && rank(b.From, order) < rank(a.From, order) {
		return b
	}
	return a
}

func finerAmount(a, b Amount) Amount {
	if !a.Known || b.Known && rank(b.From, totals) < rank(a.From, totals) {
		return b
	}
	return a
}

func join(a, b Boot) Boot {
	if b.Ready.Known && finer(a.Ready, b.Ready, clocks) == b.Ready && a.Ready != b.Ready {
		a.Ready, a.Goal = b.Ready, cmp.Or(b.Goal, a.Goal)
		if len(b.Phases) > 0 {
			a.Phases = b.Phases
		}
	}
	if len(a.Phases) == 0 {
		a.Phases = b.Phases
	}
	a.Goal = cmp.Or(a.Goal, b.Goal)
	a.Settled.FromReady = finer(a.Settled.FromReady, b.Settled.FromReady, clocks)
	a.Settled.FromLogin = finer(a.Settled.FromLogin, b.Settled.FromLogin, clocks)
	a.Settled.Login = finer(a.Settled.Login, b.Settled.Login, clocks)
	if a.Settled.Rule == (Quiet{}) {
		a.Settled.Rule = b.Settled.Rule
	}
	a.Spans = joinSpans(a.Spans, b.Spans)
	if len(a.Waits) == 0 {
		a.Waits = b.Waits
	}
	for _, why := range b.Odd {
		if !slices.Contains(a.Odd, why) {
			a.Odd = append(slices.Clone(a.Odd), why)
		}
	}
	if a.Ready.Known {
		a.Odd = slices.DeleteFunc(slices.Clone(a.Odd), func(why string) bool {
			return why == NeverReady
		})
	}
	a.Simulated = a.Simulated || b.Simulated
	a.Sources = slices.Compact(slices.Sorted(slices.Values(slices.Concat(a.Sources, b.Sources))))
	a.Start = cmp.Or(a.Start, b.Start)
	a.Worked = finer(a.Worked, b.Worked, clocks)
	a.Unwritten = a.Unwritten && !b.Ready.Known
	if len(a.Slow) == 0 {
		a.Slow = b.Slow
	}
	a.Kernel = cmp.Or(a.Kernel, b.Kernel)
	a.Processors = cmp.Or(a.Processors, b.Processors)
	a.Memory = cmp.Or(a.Memory, b.Memory)
	if b.Ending == Running || a.Ending == "" {
		a.Ending = b.Ending
	}
	a.Jump = finer(a.Jump, b.Jump, clocks)
	a.Slept = a.Slept || b.Slept
	if len(a.Conditions) == 0 {
		a.Conditions = b.Conditions
	}
	if len(a.Course) == 0 {
		a.Course = b.Course
	}
	if len(a.Programs) == 0 {
		a.Programs, a.Rest = b.Programs, b.Rest
	}
	if len(a.Logins) == 0 {
		a.Logins = b.Logins
	}
	if len(a.Asks) == 0 {
		a.Asks = b.Asks
	}
	if a.Recording == nil {
		a.Recording = b.Recording
	}
	a.Notes = slices.Concat(a.Notes, b.Notes)
	return a
}

func joinSpans(a, b []Span) []Span {
	at := map[Key]int{}
	all := slices.Clone(a)
	for i, s := range all {
		at[Key{s.Native, s.Owner}] = i
	}
	for _, s := range b {
		i, known := at[Key{s.Native, s.Owner}]
		if !known {
			all = append(all, s)
			continue
		}
		have := &all[i]
		have.join(s)
		have.CPU = finer(have.CPU, s.CPU, totals)
		have.DiskRead = finerAmount(have.DiskRead, s.DiskRead)
		have.Memory = finerAmount(have.Memory, s.Memory)
		have.Failed = have.Failed || s.Failed
		have.Skipped = have.Skipped || s.Skipped
		have.Tries = max(have.Tries, s.Tries)
		if len(have.Again) == 0 {
			have.Again = s.Again
		}
		if !have.FailedAt.Known || s.FailedAt.Known && s.FailedAt.Value < have.FailedAt.Value {
			have.FailedAt = s.FailedAt
		}
		if have.Type == "" && len(have.After) == 0 {
			have.Type, have.Stays, have.After = s.Type, s.Stays, s.After
			have.Pulls, have.Triggers = s.Pulls, s.Triggers
		}
		if len(have.Course) == 0 {
			have.Course = s.Course
		}
		if len(have.PIDs) == 0 {
			have.PIDs = s.PIDs
		}
	}
	SortSpans(all)
	return all
}

// sameTry is how far two sources may be apart on a moment of one start: the
// log's entries are written a little later.
const sameTry = 50 * time.Millisecond

// join takes over the finer moments of the same span. A service manager keeps
// those of the last try only: where the other source tells of an earlier one,
// its moments stand together.
func (s *Span) join(o Span) {
	apart := s.First() - o.First()
	known := (s.Begin.Known || s.End.Known) && (o.Begin.Known || o.End.Known)
	retried := s.Tries > 1 || o.Tries > 1 || s.Begin.Known && o.Begin.Known
	switch {
	case known && retried && apart > sameTry:
		s.Begin, s.End, s.Exited = o.Begin, o.End, o.Exited
	case known && retried && apart < -sameTry: // it has the first try already
	default:
		s.Begin = finer(s.Begin, o.Begin, clocks)
		s.End = finer(s.End, o.End, clocks)
		s.Exited = finer(s.Exited, o.Exited, clocks)
	}
	if s.Begin.Known && s.End.Known && s.End.Value < s.Begin.Value {
		s.End = Figure{} // of another start
	}
}

// SortSpans puts spans in the order in which they began.
func SortSpans(spans []Span) {
	slices.SortFunc(spans, func(x, y Span) int { return x.Compare(&y) })
}

// Compare orders spans by when they began, then by name.
func (s *Span) Compare(o *Span) int {
	if c := cmp.Compare(s.First(), o.First()); c != 0 {
		return c
	}
	return cmp.Or(cmp.Compare(s.Native, o.Native), cmp.Compare(s.Owner, o.Owner))
}

// TakeOut cuts stretches of waiting for a person out of a boot: every moment
// after one comes earlier by its length. The stretches are given by the boot's
// own clock; those that overlap count once.
func TakeOut(b Boot, waits []Wait) Boot {
	slices.SortFunc(waits, func(x, y Wait) int { return cmp.Compare(x.At, y.At) })
	var cuts []Wait
	end := time.Duration(-1)
	for _, w := range waits {
		if left := w.At + w.Took - max(end, w.At); left > 0 {
			cuts = append(cuts, Wait{w.What, max(end, w.At), left})
			end = w.At + w.Took
		}
	}
	if len(cuts) == 0 {
		return b
	}
	net := func(t time.Duration) time.Duration {
		cut := time.Duration(0)
		for _, w := range cuts {
			cut += max(0, min(t-w.At, w.Took))
		}
		return t - cut
	}
	figures := []*Figure{&b.Ready, &b.Settled.Login}
	b.Spans = slices.Clone(b.Spans)
	for i := range b.Spans {
		s := &b.Spans[i]
		figures = append(figures, &s.Begin, &s.End, &s.Exited, &s.FailedAt)
		s.Course = moved(s.Course, net)
		s.Again = slices.Clone(s.Again)
		for k, t := range s.Again {
			s.Again[k] = Try{net(t.Begin), net(t.End)}
		}
	}
	for _, f := range figures {
		if f.Known {
			f.Value = net(f.Value)
		}
	}
	b.Course = moved(b.Course, net)
	b.Logins = slices.Clone(b.Logins)
	for i := range b.Logins {
		b.Logins[i].Began = net(b.Logins[i].Began)
	}
	b.Asks = slices.Clone(b.Asks)
	for i := range b.Asks {
		b.Asks[i].At = net(b.Asks[i].At)
	}
	b.Programs = slices.Clone(b.Programs)
	for i := range b.Programs {
		b.Programs[i].Began = net(b.Programs[i].Began)
		b.Programs[i].Course = moved(b.Programs[i].Course, net)
	}
	b.Phases = slices.Clone(b.Phases)
	total := time.Duration(0)
	for _, w := range cuts {
		total += w.Took
		b.Waits = append(slices.Clone(b.Waits), Wait{w.What, net(w.At), w.Took})
	}
	for i := range b.Phases {
		if b.Phases[i].Name == "userspace" {
			b.Phases[i].Took -= total
		}
	}
	return b
}

// asked are waits as they were before they were taken out of a boot.
func asked(waits []Wait) []Wait {
	waits = slices.Clone(waits)
	cut := time.Duration(0)
	for i := range waits {
		waits[i].At += cut
		cut += waits[i].Took
	}
	return waits
}

func moved(course []Use, net func(time.Duration) time.Duration) []Use {
	course = slices.Clone(course)
	for i := range course {
		course[i].At = net(course[i].At)
	}
	return course
}
