package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

func (a *app) showCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "show ITEM",
		Short: "A page about one item: what it is, why it starts, what can be done",
		Example: `  calmdawn show star-index
  calmdawn show service:star-index.service
  calmdawn show program:lanternfile.desktop@teo`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("show takes one item, by its id or a part of its name; calmdawn " +
					"list shows them")
			}
			return nil
		},
		ValidArgsFunction: first(a.completeIDs),
		RunE: func(_ *cobra.Command, args []string) error {
			l, err := a.lookAtBoots()
			if err != nil {
				return err
			}
			defer l.Close()
			picked, err := l.Pick(args)
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(document.NewPage(picked[0], factsOf(l)(picked[0])))
			}
			a.show(a.screen(), l, picked[0])
			return nil
		},
	}
	cmd.Flags().BoolVar(&a.secrets, "secrets", false, "show passwords and keys in the launch "+
		"line, which stand as … everywhere else")
	return cmd
}

// show writes the page about an item.
func (a *app) show(s *render.Screen, l *visit.Visit, it item.Item) {
	clean := render.Clean
	s.Say(render.Strong, "%s", clean(it.Title))
	s.Line("%s", clean(it.ID))
	s.Line("")
	s.Wrap(0, "%s", verdict(l, it))
	s.Line("")
	here, everywhere := l.NotesOn(it.ID)
	if here != "" {
		s.Field("Your note", clean(here)+" (of this machine)")
	}
	if everywhere != "" {
		s.Field("Your note", clean(everywhere)+" (of every machine)")
	}
	if it.Advice != "" {
		s.Field("Advice", clean(fmt.Sprintf("%s: %s", it.Advice, it.Reason)))
	} else if it.Role != "" {
		s.Field("Role", clean(fmt.Sprintf("%s (%s)", it.Role, it.Reason)))
	}
	if it.Lost != "" {
		s.Field("Without it", clean(it.Lost))
	}
	if it.Demand != "" {
		s.Field("If wanted", clean(it.Demand))
	}
	if it.Protected != "" {
		s.Field("Protected", clean(it.Protected)+"; switching it off takes --insist")
	}
	from := strings.TrimSpace(it.Package + " " + it.Version)
	if !it.Installed.IsZero() {
		from += ", installed " + it.Installed.Local().Format("2 Jan 2006")
	}
	if it.Archive != "" && it.Archive != it.Maker {
		from += ", from the archive of " + it.Archive
	}
	came := ""
	if it.Came != "" {
		came = " (" + it.Came + ")"
	}
	switch {
	case it.System && it.Package == "":
		s.Field("Maker", clean(it.Maker)+", as its place and its file tell")
	case it.System:
		s.Field("Maker", clean(fmt.Sprintf("%s; a part of the operating system%s, package %s",
			it.Maker, came, from)))
	case it.Package != "" && it.Maker == "":
		s.Field("Maker", clean("unknown; package "+from+came))
	case it.Package != "":
		s.Field("Maker", clean(fmt.Sprintf("%s, package %s%s", it.Maker, from, came)))
	case it.Maker != "":
		s.Field("Maker", clean(it.Maker))
	case strings.HasPrefix(it.File, "/"):
		s.Field("Maker", "unknown: no package of this machine owns it")
	default:
		s.Field("Maker", "unknown")
	}
	switch ofPackage := it.Came + it.Archive + it.Section; {
	case it.Summary == "":
	case ofPackage != "":
		s.Field("Package", clean(it.Summary))
	default:
		s.Field("Says", clean(it.Summary))
	}
	if it.Signature != "" {
		s.Field("Signature", clean(it.Signature))
	}
	if it.Opaque != "" {
		s.Field("Not known", clean(it.Opaque))
	}
	if it.Owner != "" {
		s.Field("Owner", clean(it.Owner)+", at whose login it starts")
	}
	if of := l.ByUser(it); len(of) > 0 {
		var parts []string
		for _, state := range []item.State{item.On, item.Delayed, item.Broken, item.Off} {
			if n := len(of[state]); n > 0 {
				parts = append(parts, fmt.Sprintf("%s for %s (%s)", state,
					count(n, "user", "users"), strings.Join(of[state], ", ")))
			}
		}
		s.Field("Users", clean(strings.Join(parts, "; ")))
	}
	if len(it.Because) > 0 {
		s.Field("Chain", clean(strings.Join(it.Because, " → ")))
	}
	if it.Command != "" {
		s.Field("Runs", clean(it.Command))
	}
	if len(it.Twins) > 0 {
		s.Field("Besides", clean("the same program is launched by "+strings.Join(it.Twins, ", ")))
	}
	if it.Fires != "" && it.Kind == item.Service {
		s.Field("Starts", clean(it.Fires))
	} else if it.Fires != "" {
		s.Field("Goes off", clean(it.Fires))
	}
	if it.File != "" {
		s.Field("Set up in", clean(it.File))
	}
	for _, c := range it.Conditions {
		s.Field("Only if", clean(c)+" (only the running machine can tell)")
	}
	if len(it.NeededBy) > 0 {
		s.Field("Needed by", clean(strings.Join(it.NeededBy, ", ")))
	}
	if len(it.Starters) > 0 {
		says := " can start it even when it is off"
		if it.Masked {
			says = " would start it, and fails while it is masked"
		}
		s.Field("On demand", clean(strings.Join(it.Callers(), ", "))+says)
	}
	if by := l.AskedBy(it); len(by) > 0 {
		var parts []string
		for _, program := range slices.Sorted(maps.Keys(by)) {
			parts = append(parts, fmt.Sprintf("%s (in %s)", program,
				count(by[program], "boot", "boots")))
		}
		s.Field("Asked for", clean("by "+strings.Join(parts, ", ")+": it was started on demand"))
	}
	a.showCost(s, l, it)
	if n, of, by := l.NotedSlow(it); n > 0 {
		s.Field("Noted slow", clean(fmt.Sprintf("by the machine itself in %d of the last %s: %s "+
			"longer than usual, the median", n, count(of, "boot", "boots"), render.Duration(by))))
	}
	if other, ok := l.WorkOf(it); ok {
		s.Field("Work of", clean(fmt.Sprintf("%s, which is started only because this is, and took "+
			"%s in the last boot: the wait is for its work", other.Native,
			render.Duration(other.Took))))
	}
	if it.Advice == item.LookUp {
		s.Field("Look up", clean(advice.Phrase(it)))
	}
	s.Line("")
	a.recommendSwitch(s, l, it)
	if c, ok := l.LastChange(it.ID); ok {
		s.Line("To take change %d back: %s", c.ID, a.call(fmt.Sprintf("undo %d", c.ID)))
	}
}

// verdict says in a sentence what the next boot or login does with an item, and
// since when.
func verdict(l *visit.Visit, it item.Item) string {
	moment := map[item.When]string{
		item.AtBoot:  "The next boot",
		item.AtLogin: "The next login",
		item.Later:   "A timer or table that the next boot arms",
	}[it.When]
	if it.When == item.AtLogin && it.Owner != "" {
		moment += " of " + render.Clean(it.Owner)
	}
	why := ""
	if it.Why != "" {
		why = ": " + render.Clean(it.Why)
	}
	var text string
	switch it.State {
	case item.Off:
		text = fmt.Sprintf("It is off%s. %s does not launch it.", why, moment)
	case item.Broken:
		text = fmt.Sprintf("It is broken%s. %s tries to launch it all the same.", why, moment)
	default:
		text = fmt.Sprintf("It is %s%s. %s launches it.", it.State, why, moment)
		if it.State == item.On && it.Kind == item.Service && it.Fires != "" {
			text = fmt.Sprintf("It is on. It starts %s.", render.Clean(it.Fires))
		}
		if it.Unsure {
			depends := "which depends on what the script does"
			if it.Why != "" {
				depends = "for " + render.Clean(it.Why)
			}
			text = fmt.Sprintf("It may be on: %s may launch it, %s.",
				strings.ToLower(moment[:1])+moment[1:], depends)
		}
	}
	if it.Generated {
		text += " It was set up as this boot began: only the running machine shows it."
	}
	if c, ok := l.LastChange(it.ID); ok {
		at := slices.IndexFunc(c.Targets, func(t change.Target) bool { return t.ID == it.ID })
		text += fmt.Sprintf(" It was %s on %s by %s, change %d.",
			visit.Participle(c.Targets[at].After), day(c.MadeAt), render.Clean(c.MadeBy), c.ID)
	}
	if _, again := l.OnAgain(it); again {
		text += " Somebody else has switched it on again since."
	}
	return text
}

// recommendSwitch says how an item is switched, or why it cannot be.
func (a *app) recommendSwitch(s *render.Screen, l *visit.Visit, it item.Item) {
	verb, to, says := "disable", item.Off, "off"
	if !it.State.Launched() {
		verb, to, says = "enable", item.On, "on"
	}
	insist := ""
	if it.Protected != "" && to == item.Off {
		insist = " --insist " + shellWord(it.ID)
	}
	if err := l.MayTurn(it, to); err != nil {
		s.Wrap(2, "It cannot be switched %s: %s.", says, a.named(render.Clean(err.Error())))
		return
	}
	s.Line("To switch it %s: %s", says, a.call(verb+" "+shellWord(it.ID)+insist))
}
