package say

import (
	"errors"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/ledger"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

const sec = time.Second

// at is an instant on 2 November 2026 in the zone of whoever runs the tests.
var at = time.Date(2026, 11, 2, 7, 31, 0, 0, time.Local)

// A sentence is what is said of a value, and what is to be said.
type sentence struct{ got, want string }

func hold(t *testing.T, all map[string]sentence) {
	t.Helper()
	for name, s := range all {
		t.Run(name, func(t *testing.T) {
			if got := render.Parted(s.got); got != s.want {
				t.Errorf("\n%q, want\n%q", got, s.want)
			}
		})
	}
}

func TestWords(t *testing.T) {
	hold(t, map[string]sentence{
		"one":                {Count(1, "item", "items"), "1 item"},
		"none":               {Count(0, "item", "items"), "0 items"},
		"a capital":          {Capital("a boot"), "A boot"},
		"no capital":         {Capital(""), ""},
		"milliseconds":       {exact(-42 * time.Millisecond), "42 ms"},
		"a second":           {exact(sec), "1.0 s"},
		"a shift":            {shift(-2100 * time.Millisecond), "-2.1 s"},
		"no shift":           {shift(-20 * time.Millisecond), "0.0 s"},
		"a signed loss":      {signed(-70 * sec), "-1 min 10 s"},
		"a signed gain":      {signed(2 * sec), "+2.0 s"},
		"sooner":             {moved(2 * sec), "2.0 s sooner"},
		"later":              {moved(-2 * sec), "2.0 s later"},
		"a saving of less":   {signedOr0(-sec), "a loss of 1.0 s"},
		"one change":         {numbered([]int64{4}), "change 4"},
		"changes":            {numbered([]int64{4, 2}), "changes 4, 2"},
		"a row of changes":   {InWords(changes(2, 3, 4)), "2-4"},
		"scattered changes":  {InWords(changes(2, 4, 9)), "2 4 9"},
		"two in a row":       {InWords(changes(2, 3)), "2 3"},
		"a small share":      {share(time.Millisecond, sec), "under 1 %"},
		"no share":           {share(0, sec), "0 %"},
		"a half":             {share(sec, 2*sec), "50 %"},
		"a day":              {Day(at), "2 Nov 2026, 07:31"},
		"no day":             {Day(time.Time{}), "an unknown day"},
		"a written day":      {Date("2026-12-07"), "7 Dec 2026"},
		"a day that is none": {Date("soon\x1b"), "soon?"},
		"a machine":          {MachineName(hostly("gno\x1bmon")), "gno?mon"},
		"no name":            {MachineName(hostly("")), "this machine"},
		"for programs":       {inSeconds(1234567 * time.Microsecond), "1.235"},
		"a figure":           {figureInSeconds(boot.Figure{Value: sec, Known: true}), "1.000"},
		"no figure":          {figureInSeconds(boot.Figure{Value: sec}), ""},
	})
}

func changes(ids ...int64) (all []change.Change) {
	for _, id := range ids {
		all = append(all, change.Change{ID: id})
	}
	return all
}

func hostly(name string) *visit.Visit {
	return &visit.Visit{Survey: item.Survey{Host: name}}
}

// TestCalls recommends commands that a shell takes as they stand.
func TestCalls(t *testing.T) {
	bench := Calls{Root: "/mnt/my disk", Casebook: "it's.db", Commands: []string{"list", "undo"}}
	const lead = "calmdawn --root '/mnt/my disk' --casebook 'it'\\''s.db'"
	hold(t, map[string]sentence{
		"here":         {Calls{}.Call("list"), "calmdawn list"},
		"alone":        {Calls{}.Call(""), "calmdawn"},
		"on the bench": {bench.Call("undo 3"), lead + " undo 3"},
		"in a text": {
			bench.Named("see calmdawn list; or calmdawn undo 3\n"),
			"see " + lead + " list; or " + lead + " undo 3\n",
		},
		"of no command": {bench.Named("calmdawn never lists"), "calmdawn never lists"},
		"a help":        {bench.Named("calmdawn list --help tells"), "calmdawn list --help tells"},
		"a hostile id":  {ShellWord("a\nb"), item.SafeID("a\nb")},
	})
}

// comparedAs is a comparison with a verdict on ready.
func comparedAs(r compare.Times, made ...change.Change) Comparison {
	ready, _ := compare.MeasureOf("ready")
	return Comparison{Comparison: job.Comparison{
		On: ready, Main: r, Changes: made, Between: "since change 1",
	}}
}

func TestAnswers(t *testing.T) {
	sides := func(before, after int) (r compare.Times) {
		r.Before.N, r.After.N = before, after
		return r
	}
	faster := sides(5, 5)
	faster.Verdict, faster.Estimate = compare.Faster, -12*sec
	faster.Low, faster.High, faster.Bounded = -14*sec, -9*sec, true
	same := faster
	same.Verdict, same.Low, same.High = compare.NoDifference, -sec, 2*sec
	few := sides(3, 1)
	few.Verdict, few.Missing = compare.TooFew, 2
	old := sides(1, 5)
	old.Verdict = compare.TooFew
	none := sides(0, 0)
	none.Verdict = compare.TooFew
	unmeasured := comparedAs(none)
	unmeasured.Sides.Before = []boot.Boot{{}}
	simulated := comparedAs(faster)
	simulated.Sides.Before = []boot.Boot{{Simulated: true}, {}}
	hold(t, map[string]sentence{
		"faster": {
			comparedAs(faster).Answer(),
			"Ready is faster by 12.0 s since change 1 (between 9.0 s and 14.0 s, measured).",
		},
		"some simulated": {
			simulated.Answer(), "Ready is faster by 12.0 s since change 1 (between 9.0 s and " +
				"14.0 s, 1 of them simulated).",
		},
		"no difference": {
			comparedAs(same).Answer(), "No difference shown since change 1: ready changed by " +
				"something between -1.0 s and +2.0 s, measured.",
		},
		"too few after": {
			comparedAs(few).Answer(), "Not known yet what changed since change 1: ready was " +
				"measured in 3 boots before and 1 boot after, measured; 2 more restarts would do.",
		},
		"too few before a change": {
			comparedAs(old, change.Change{ID: 1}).missing(),
			"there are too few from before, which cannot be made up unless the change is undone",
		},
		"too few before": {comparedAs(old).missing(), "there are too few on the side before"},
		"no boots": {
			comparedAs(none).Answer(), "Too few boots to tell what changed since change 1: none " +
				"is remembered that could be compared.",
		},
		"never measured": {
			unmeasured.Answer(), "Ready was measured in none of these boots: it takes a recorder " +
				"that was on, and for what follows a login somebody who logged in.",
		},
		"after a good one": {
			comparedAs(faster, change.Change{ID: 1}).next(Calls{}), "Next: write it down for the " +
				"customer, with calmdawn report; or look for more, with calmdawn list",
		},
		"after none": {
			comparedAs(same, change.Change{ID: 1, Verb: change.Disable, Status: change.Done}).
				next(Calls{}),
			"Next: keep what was changed, or take it back with calmdawn undo 1",
		},
		"before more boots": {
			comparedAs(few, change.Change{ID: 1}).next(Calls{}),
			"Next: 2 more restarts, then calmdawn compare",
		},
		"without a change": {
			comparedAs(same).next(Calls{}), "Next: look for more, with calmdawn list",
		},
	})
}

// foretold is a forecast of ready that shows.
var foretold = change.Forecast{
	Now: 60 * sec, Saving: 10 * sec, Low: -sec, High: 12 * sec, Boots: 5, Spread: 2 * sec,
}

func TestForecastLines(t *testing.T) {
	hidden, costs, both := foretold, foretold, foretold
	hidden.Saving = sec
	costs.Saving, costs.Low, costs.High = -10*sec, -12*sec, 3*sec
	usable := foretold
	usable.Kind, usable.AtLeast = "login of maria", true
	both.Usable = &usable
	hold(t, map[string]sentence{
		"it shows": {
			ForecastLine(foretold),
			"Forecast: ready 10.0 s sooner (between a loss of 1.0 s and 12.0 s), from 5 boots.",
		},
		"it does not": {
			ForecastLine(hidden),
			"Forecast: no effect on ready shown, now 1 min 0 s, from 5 boots.",
		},
		"it costs": {
			ForecastLine(costs),
			"Forecast: ready 10.0 s later (between a gain of 3.0 s and 12.0 s), from 5 boots.",
		},
		"usable leads": {
			ForecastLine(both), "Forecast: usable (login of maria) at least 10.0 s sooner " +
				"(between a loss of 1.0 s and 12.0 s); ready 10.0 s sooner (between a loss of " +
				"1.0 s and 12.0 s), from 5 boots.",
		},
		"alone more": {
			sumOfAlone(5*sec, 3*sec),
			"Alone they save 5.0 s in sum; together 3.0 s, since starts overlap.",
		},
		"alone as much": {
			sumOfAlone(5*sec, 5*sec), "Alone they save 5.0 s in sum; together 5.0 s.",
		},
		"alone less": {
			sumOfAlone(sec, 3*sec), "Alone they save 1.0 s in sum; together 3.0 s, since what " +
				"waits side by side brings little before all of it is gone.",
		},
		"a wait that shows": {
			waitText(forecast.Forecast{
				Saving: forecast.Saving{Median: 3 * sec, Low: sec, High: 4 * sec}, Boots: 1,
				Shows: true, AtLeast: true,
			}),
			"at least 3.0 s sooner without it, between 1.0 s and 4.0 s: a forecast from 1 boot",
		},
		"a wait that does not": {
			waitText(forecast.Forecast{Spread: 2 * sec}), "no effect shown: without it ready " +
				"would come sooner by less than boots differ anyhow (2.0 s)",
		},
	})
}

// decided is a change that was made, of an item that was on.
func decided(id int64, to item.State, when item.When) change.Change {
	return change.Change{
		ID: id, Verb: change.Disable, Status: change.Done, MadeAt: at, MadeBy: "ada",
		Targets: []change.Target{
			{ID: "service:x", Title: "Lamp", Before: item.On, After: to, When: when},
		},
	}
}

func TestChanges(t *testing.T) {
	boot, login := decided(3, item.Off, item.AtBoot), decided(4, item.Delayed, item.AtLogin)
	undone, failed, trial, undo := boot, boot, boot, boot
	undone.UndoneBy, failed.Status, trial.Terms.Until = 7, change.Failed, "2026-12-07"
	undo.Verb, undo.Undoes = change.Undo, 3
	planned := boot
	planned.Status = change.Planned
	foreseenOne, cameOut := boot, boot
	foreseenOne.Forecast = &foretold
	cameOut.Forecast, cameOut.Outcome = &foretold, &change.Outcome{Saved: 9 * sec, Within: true}
	hold(t, map[string]sentence{
		"off":         {What(boot), "disable Lamp"},
		"delayed":     {What(login), "delay Lamp"},
		"undone":      {What(undo), "undo change 3"},
		"in force":    {Fate(boot), "in force"},
		"taken back":  {Fate(undone), "undone by 7"},
		"failed":      {Fate(failed), "failed, nothing changed"},
		"on trial":    {Fate(trial), "in force, on trial until 7 Dec 2026"},
		"done":        {Fate(undo), "done"},
		"interrupted": {Fate(planned), "interrupted"},
		"at boot":     {Effect(boot), "at the next boot"},
		"at login":    {Effect(login), "at the next login"},
		"a restart":   {Restart(boot), ": restart the machine when it suits"},
		"no restart":  {Restart(login), ""},
		"foretold":    {foreseen(foreseenOne), "ready -10.0 s"},
		"came out":    {foreseen(cameOut), "ready -10.0 s, came out -9.0 s"},
		"not told":    {foreseen(boot), ""},
		"how good": {
			forecastsKept([]change.Change{cameOut}), "Of 1 forecast on this machine, 1 came out " +
				"within the range; on average they were 1.0 s off.",
		},
		"no outcome": {forecastsKept([]change.Change{boot}), ""},
	})
}

func TestTrials(t *testing.T) {
	of := func(until, kept string) string {
		c := decided(1, item.Off, item.AtBoot)
		c.Terms.Until, c.Terms.Kept = until, kept
		return trialCell(c, at.Add(72*time.Hour)).Text
	}
	hold(t, map[string]sentence{
		"goes on":  {of("2026-11-07", ""), "on trial, 2 days left"},
		"last day": {of("2026-11-05", ""), "on trial, today is the last day"},
		"overdue":  {of("2026-11-04", ""), "overdue by 1 day"},
		"kept":     {of("2026-11-04", "2026-11-05"), "kept on 5 Nov 2026"},
	})
}

func TestInterruptedChanges(t *testing.T) {
	open := decided(3, item.Off, item.AtBoot)
	open.Status = change.Planned
	open.Edits = []change.Edit{{Path: "/etc/a b"}}
	settled := open
	settled.Settlement = &change.Settlement{
		At: at, Open: map[string]string{"/etc/a b": "somebody else changed it"},
	}
	undo := settled
	undo.Verb, undo.Undoes = change.Undo, 2
	finished := open
	finished.Status, finished.Settlement = change.Failed, &change.Settlement{At: at}
	lines := func(all []string) string {
		text := ""
		for _, line := range all {
			text += line + "\n"
		}
		return text
	}
	hold(t, map[string]sentence{
		"being made": {
			lines(Calls{}.Unsettled(open, true)),
			"Change 3 is being made at this moment; what is shown may be half of it.\n",
		},
		"interrupted": {
			lines(Calls{}.Unsettled(open, false)),
			"Change 3 was interrupted: what is shown is the machine as it is, changed in part. " +
				"To have it settled: calmdawn undo 3\n",
		},
		"closed": {lines(Calls{}.Unsettled(decided(3, item.Off, item.AtBoot), false)), ""},
		"ways on": {
			lines(Calls{}.WaysOn(settled)),
			"Change 3 is open at /etc/a b: somebody else changed it.\n" +
				"  To put there what was before it, whatever is there now: calmdawn undo 3 " +
				"--overwrite\n  To leave it as it is: calmdawn undo 3 --leave '/etc/a b'\n",
		},
		"settled in part": {
			Settled(settled), "Change 3 had been interrupted. It is settled but for 1 path.",
		},
		"settled": {
			Settled(finished), "Change 3 had been interrupted; it was taken back, and the " +
				"machine is as it was before it.",
		},
		"an undo in part": {
			Settled(undo), "Change 3 had been interrupted. It is settled but for 1 path.",
		},
		"held elsewhere": {
			Calls{Root: "/mnt"}.WithWays(&ledger.HeldElsewhere{
				Casebook: "/b.db", Change: 2, Mark: "/m",
			}).Error(),
			(&ledger.HeldElsewhere{Casebook: "/b.db", Change: 2, Mark: "/m"}).Error() +
				"\ntake that back first, on that computer: calmdawn --root /mnt --casebook " +
				"/b.db undo 2\nif that casebook is lost, remove /m from the machine by hand",
		},
		"another error": {Calls{}.WithWays(errors.New("no room")).Error(), "no room"},
		"protected": {
			Insistable(&visit.Protected{
				Items: []item.Item{{ID: "service:p"}}, Why: []string{"it guards"},
			}).Error(),
			"service:p is protected: it guards\nif you are sure: --insist service:p\nnothing " +
				"was changed",
		},
	})
}

func TestItems(t *testing.T) {
	owned := item.Item{Package: "lamp", Version: "1.2", Maker: "Halloway"}
	part := owned
	part.System, part.Came = true, "installed with it"
	elsewhere := owned
	elsewhere.Archive, elsewhere.Installed = "Tindle", at
	verdict := func(it item.Item) string { return verdictOn(hostly("m"), it) }
	hold(t, map[string]sentence{
		"a package": {makerText(owned), "Halloway, package lamp 1.2"},
		"a part": {
			makerText(part),
			"Halloway; a part of the operating system (installed with it), package lamp 1.2",
		},
		"from an archive": {
			makerText(elsewhere), "Halloway, package lamp 1.2, installed 2 Nov 2026, from the " +
				"archive of Tindle",
		},
		"by its file": {
			makerText(item.Item{System: true, Maker: "Meridian"}),
			"Meridian, as its place and its file tell",
		},
		"of no package": {
			makerText(item.Item{File: "/opt/x"}), "unknown: no package of this machine owns it",
		},
		"unknown": {makerText(item.Item{}), "unknown"},
		"on": {
			verdict(item.Item{State: item.On, When: item.AtBoot}),
			"It is on. The next boot launches it.",
		},
		"off": {
			verdict(item.Item{State: item.Off, When: item.AtLogin, Owner: "m\x1bx", Why: "masked"}),
			"It is off: masked. The next login of m?x does not launch it.",
		},
		"broken": {
			verdict(item.Item{State: item.Broken, When: item.Later, Why: "/x is gone"}),
			"It is broken: /x is gone. A timer or table that the next boot arms tries to launch " +
				"it all the same.",
		},
		"unsure": {
			verdict(item.Item{State: item.On, When: item.AtLogin, Unsure: true}),
			"It may be on: the next login may launch it, which depends on what the script does.",
		},
		"made by a generator": {
			verdict(item.Item{State: item.On, When: item.AtBoot, Generated: true}),
			"It is on. The next boot launches it. It was set up as this boot began: only the " +
				"running machine shows it.",
		},
		"states": {
			states([]item.Item{{State: item.Off}, {State: item.On}, {State: item.On}}),
			"2 on, 1 off",
		},
		"parts among others": {
			ofSystem([]item.Item{{System: true}, {}}),
			" (1 of the 2 items is a part of the operating system)",
		},
		"no parts": {ofSystem([]item.Item{{}}), ""},
		"a long reason": {
			why(item.Item{Reason: "it prints (role printing)", Protected: ""}), "it prints",
		},
	})
}

func TestBoots(t *testing.T) {
	ready := boot.Boot{Ready: boot.Figure{Value: 20 * sec, Known: true}}
	settled := ready
	settled.Settled.FromReady = boot.Figure{Value: 5 * sec, Known: true}
	slow, simulatedOne := ready, ready
	slow.Odd, simulatedOne.Simulated = []string{"the clock was set"}, true
	slow.Waits = []boot.Wait{{Took: 3 * sec}}
	of := func(b boot.Boot) string { text, _ := notesOn(b); return text }
	hold(t, map[string]sentence{
		"never ready": {Outcome(boot.Boot{}), "it never became ready"},
		"unwritten":   {Outcome(boot.Boot{Unwritten: true}), "how long it took is not known"},
		"no times": {
			bootHeadline([]boot.Boot{{Unwritten: true}}),
			"1 boot is remembered. How long it took is not known.",
		},
		"ready":   {Outcome(ready), "ready after 20.0 s"},
		"settled": {Outcome(settled), "usable after 25.0 s (no login), ready after 20.0 s"},
		"no boots": {
			bootHeadline(nil),
			"0 boots are remembered, none that became ready and can be compared.",
		},
		"a median": {
			bootHeadline([]boot.Boot{ready}),
			"Ready after 20.0 s: the median of the last 1 boot, measured.",
		},
		"odd":       {of(slow), "odd, see below; without 3.0 s of waiting for a person"},
		"simulated": {of(simulatedOne), "simulated"},
		"sources": {
			SourcesOf(boot.Boot{Sources: []boot.Source{boot.Log, boot.Recorder}}),
			"Measured, from the log, the recorder's samples.",
		},
		"no logins": {
			loginUse(boot.LoginUse{}),
			"The programs of logins used no processor time that was measured.",
		},
	})
}
