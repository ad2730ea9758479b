package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// jobGroups are the groups of commands in the order of the job.
var jobGroups = []struct{ title, commands string }{
	{"See what a machine launches, and how its boots go", "list show boots conditions recorder"},
	{"Decide", "review forecast propose note"},
	{"Change, and take back", "disable delay enable apply undo history trial guard"},
	{"Hold before against after", "compare report drift label"},
	{"Besides", "demo diagnose help completion"},
}

// A topic is an explanation that help gives.
type topic struct{ name, short, text string }

// topics are what the help of no single command tells.
var topics = []topic{
	{"costs", "grades, waits and processor time, and how they are known",
		`Wait is how much sooner one could work without the item, where logins were
recorded; else how much sooner the machine would be ready: a forecast, from
replays of its last boots. Waits overlap: their sum is not what all would save;
forecast tells what several bring together.

CPU is the processor time that an item used by the end of the boot or login,
CPU NOW what it uses at this moment.

An item is heavy if its wait is at least 5 % of the time until one can work, or
its processor time 10 % of what all processors could have done until then;
moderate from 1.5 % or 3 %; else light. A grades.toml of your own in calmdawn's
configuration folder changes that.`},
	{"states", "on, off, delayed, broken",
		`on       the next boot or login launches it, or arms it
delayed  it starts some time after the boot is ready, or after the login
off      it is set up, and is not launched
broken   it would be launched, but its program is gone

What only the running machine can tell (a condition on its hardware, say) is
named on the item's page. A ? behind the moment says that it depends on what a
script does.`},
	{"items", "how items are named, and chosen",
		`Wherever a command takes items, they can be named by

  service:star-index.service   their id
  star-index                   their name or title, or a part of it that no
                               other item has
  3 or 3-5                     their number in the last list of this machine,
                               at a terminal and without --yes
  'service:cue-*'              a pattern with * in it (disable, delay, enable,
                               forecast)

and chosen by what they are: --kind, --state, --when, --owner, --maker, --role,
--advice. Values of one flag may be several, with commas between them; of
several flags an item has to fit all. The operating system's own parts are
among them only with --all.`},
	{"usable", "usable, ready, settled: what the figures of boots mean",
		`Ready counts from the moment the kernel began until the boot's goal was
reached; firmware and loader stand beside it.

Settled is when the machine had gone quiet; only the recorder sees that.

Usable is when the machine was quiet after ready and the first login, without
the time it waited for somebody to log in: when one could work.
Boots of different people, and ones without a login, are not put together.

A Windows machine measures itself: ready is its way to the desktop, settled
when it was through with what the login launched, usable both together.

Time in which the machine waited for a person is taken out, and shown. A boot
is odd if something about it makes it no measure of the machine: it is named,
and left out of comparisons.`},
	{"scope", "what a list holds, of each kind of machine", visit.Scopes()},
	{"machine", "which machine a call is about, and where its changes are kept",
		`A call is about the running machine, or with --root DIR about the one whose disk
is mounted at DIR, for instance a customer's disk on the bench computer. The
variable CALMDAWN_ROOT stands for --root; programs by which one becomes root
may drop it, so commands that are shown name the folder then.

What was changed is recorded in the machine itself, in /var/lib/calmdawn, or
ProgramData\calmdawn of Windows: whoever has the machine can take it back.
--casebook FILE keeps it in a file of yours instead. A casebook of another
machine is refused; where only the machine id was changed, --this-machine says
so.

--json prints one JSON document instead of text; docs/schema describes them.
--color and --pager say how text is shown. The pager is the one that PAGER
names; root runs it only where --pager names it, or off. Who may run calmdawn
as root, by a rule of sudo for it alone, may run any program so.`},
	{"exit", "exit statuses, for scripts",
		`0  it was done, or the answer is good
1  it failed; a sentence says what and what to do
2  the words of the call are off; nothing was done
3  the answer is no: compare --fail-if, drift; list found nothing that fits
4  apply carried a proposal out as far as its items exist here
5  the question has no answer yet: compare --fail-if had too few boots`},
}

// shapeHelp sets how help is shown: a command's own fits a screen, and the long
// explanations are topics.
func (a *app) shapeHelp(root *cobra.Command) {
	for _, g := range jobGroups {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title + ":"})
		for _, name := range strings.Fields(g.commands) {
			switch name {
			case "help":
				root.SetHelpCommandGroupID(g.title)
			case "completion":
				root.SetCompletionCommandGroupID(g.title)
			}
			for _, cmd := range root.Commands() {
				if cmd.Name() == name {
					cmd.GroupID = g.title
				}
			}
		}
	}
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) { a.shortHelp(cmd) })
	root.SetHelpCommand(&cobra.Command{
		Use:   "help [COMMAND | TOPIC]",
		Short: "Explain a command at length, or a topic",
		ValidArgsFunction: func(_ *cobra.Command, have []string, typed string) ([]string,
			cobra.ShellCompDirective) {
			o := offer{have: have, typed: typed}
			for _, t := range topics {
				o.add(t.name, t.short)
			}
			for _, cmd := range root.Commands() {
				if cmd.IsAvailableCommand() {
					o.add(cmd.Name(), cmd.Short)
				}
			}
			return o.words, noFiles
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.explain(root, args) },
	})
}

// shortHelp is what --help shows.
func (a *app) shortHelp(cmd *cobra.Command) {
	s := a.screen()
	about, _, more := strings.Cut(cmd.Long, "\n\n")
	if cmd.Long == "" {
		about = cmd.Short + "."
	}
	s.Wrap(0, "%s", strings.ReplaceAll(about, "\n", " "))
	s.Line("")
	s.Line("Usage: %s", render.Whole(cmd.UseLine()))
	showExamples(s, cmd.Example)
	a.subcommands(s, cmd)
	showFlags(s, cmd.LocalFlags())
	s.Line("")
	if cmd.HasParent() {
		s.Wrap(0, "Every command takes --root, --casebook, --color and --pager, most take "+
			"--json: %s",
			render.Whole("calmdawn help machine"))
	}
	if more && cmd.HasParent() && cmd.Parent() == cmd.Root() {
		s.Line("At length: %s", render.Whole("calmdawn help "+cmd.Name()))
	}
	if !cmd.HasParent() {
		s.Line("%s explains a command at length, or a topic:",
			render.Whole("calmdawn help NAME"))
		showTopics(s)
	}
}

func showExamples(s say.Page, text string) {
	if text != "" {
		s.Line("")
		showList(s, text)
	}
}

// showList lists calls or words with what they are for, which stands behind two
// blanks on the same line, and goes on behind blanks alone.
func showList(s say.Page, text string) {
	var rows [][]render.Cell
	for line := range strings.SplitSeq(text, "\n") {
		call, about, _ := strings.Cut(strings.TrimPrefix(line, "  "), "  ")
		if call == "" && len(rows) > 0 {
			last := &rows[len(rows)-1][1]
			last.Text = strings.TrimSpace(last.Text + " " + strings.TrimSpace(about))
			continue
		}
		rows = append(rows, []render.Cell{
			render.C(render.Whole("  " + call)),
			render.C(strings.TrimSpace(about)),
		})
	}
	table(s, rows)
}

func showTopics(s say.Page) {
	var rows [][]render.Cell
	for _, t := range topics {
		rows = append(rows, []render.Cell{render.C("  " + t.name), render.C(t.short)})
	}
	table(s, rows)
}

// subcommands lists the commands below one, in their groups.
func (a *app) subcommands(s say.Page, cmd *cobra.Command) {
	names := ""
	for _, g := range jobGroups {
		names += g.commands + " "
	}
	order := func(row []render.Cell) int {
		return slices.Index(strings.Fields(names), strings.TrimSpace(row[0].Text))
	}
	list := func(title string, group string) {
		var rows [][]render.Cell
		for _, sub := range cmd.Commands() {
			if sub.GroupID == group && sub.IsAvailableCommand() {
				rows = append(rows, []render.Cell{
					render.C("  " + sub.Name()), render.C(sub.Short),
				})
			}
		}
		slices.SortStableFunc(rows, func(x, y []render.Cell) int { return order(x) - order(y) })
		if len(rows) > 0 {
			s.Line("")
			s.Say(render.Strong, "%s", title)
			table(s, rows)
		}
	}
	for _, g := range cmd.Groups() {
		list(g.Title, g.ID)
	}
	if len(cmd.Groups()) == 0 {
		list("Commands:", "")
	}
}

// table shows words with what they mean, wrapped beside them, or below those
// that are too wide.
func table(s say.Page, rows [][]render.Cell) {
	const most = 44
	widest := 0
	for _, row := range rows {
		if n := len(render.Parted(row[0].Text)); n <= most && row[1].Text != "" {
			widest = max(widest, n)
		}
	}
	for _, row := range rows {
		room := widest - len(render.Parted(row[0].Text))
		if room < 0 && row[1].Text != "" { // what it is for stands below it
			s.Line("%s", row[0].Text)
			row[0].Text, room = "", widest
		}
		if row[1].Text == "" {
			s.Line("%s", row[0].Text)
			continue
		}
		s.Wrap(widest+2, "%s%s  %s", row[0].Text, strings.Repeat(" ", room), row[1].Text)
	}
}

// Described is the name of what a flag takes, empty for a switch, and what it
// does, with its default.
func Described(f *pflag.Flag) (form, usage string) {
	form, usage = pflag.UnquoteUsage(f)
	if slices.Contains([]string{"", "false", "0", "0s", "[]"}, f.DefValue) || f.Name == "root" {
		return form, usage
	}
	value := f.DefValue
	if by, err := time.ParseDuration(value); err == nil {
		value = visit.ByText(by)
	}
	return form, fmt.Sprintf("%s (%s if not given)", usage, value)
}

// showFlags lists flags with what they do.
func showFlags(s say.Page, flags *pflag.FlagSet) {
	var rows [][]render.Cell
	var filters []string
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || f.Name == "version" {
			return
		}
		if filterHelp[f.Name] != "" {
			filters = append(filters, "--"+f.Name)
			return
		}
		form, usage := Described(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if form != "" {
			name += " " + form
		}
		rows = append(rows, []render.Cell{
			render.C(render.Whole("  " + name)),
			render.C(strings.ReplaceAll(usage, "\n", " ")),
		})
	})
	if len(rows)+len(filters) > 0 {
		s.Line("")
		table(s, rows)
	}
	if len(filters) > 0 {
		s.Wrap(4, "  %s: only items that are so; %s", strings.Join(filters, ", "),
			render.Whole("calmdawn help items"))
	}
}

// paragraphs shows a text folded anew; a list has two blanks in it.
func paragraphs(s say.Page, text string) {
	for i, part := range strings.Split(text, "\n\n") {
		if i > 0 {
			s.Line("")
		}
		if !strings.Contains(part, "  ") {
			s.Wrap(0, "%s", strings.ReplaceAll(part, "\n", " "))
			continue
		}
		showList(s, part)
	}
}

// explain shows the long text of a command, or a topic; without a name it is
// the help of all.
func (a *app) explain(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		a.shortHelp(root)
		return nil
	}
	s := a.screen()
	for _, t := range topics {
		if len(args) == 1 && t.name == args[0] {
			s.Say(render.Strong, "%s: %s", t.name, t.short)
			s.Line("")
			paragraphs(s, t.text)
			return nil
		}
	}
	cmd, rest, err := root.Find(args)
	if err != nil || len(rest) > 0 || cmd == root {
		var names []string
		for _, t := range topics {
			names = append(names, t.name)
		}
		return usage("there is no command or topic %q; topics are %s\ncalmdawn --help lists the "+
			"commands", strings.Join(args, " "), strings.Join(names, ", "))
	}
	s.Say(render.Strong, "%s", cmd.UseLine())
	s.Line("")
	paragraphs(s, cmp.Or(cmd.Long, cmd.Short+"."))
	s.Line("")
	s.Line("Its flags and examples: %s", render.Whole(cmd.CommandPath()+" --help"))
	return nil
}
