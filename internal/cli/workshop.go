package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/document"
	"calmdawn/internal/notebook"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/workshop"
)

// workshopVariable stands for --workshop.
const workshopVariable = "CALMDAWN_WORKSHOP"

// mostRows is how many rows of an answer a screen shows.
const mostRows = 40

// A bench is the workshop that a call is about, and the form of its answer.
type bench struct {
	*app
	file     string
	all, csv bool
	since    string
}

// open opens the workshop that the flags mean.
func (b *bench) open(make bool) (*workshop.Store, error) {
	if b.file != "" {
		return workshop.Open(b.file, make)
	}
	folder, err := notebook.DataFolder()
	if err == nil && make {
		err = os.MkdirAll(folder, 0o700)
	}
	if err != nil {
		return nil, fmt.Errorf("a workshop of your own cannot be kept in your data folder (%w); "+
			"name a file with --workshop FILE", err)
	}
	return workshop.Open(filepath.Join(folder, "workshop.db"), make)
}

// recommended is a page whose commands go to the same workshop.
func (b *bench) recommended() say.Page {
	s := b.screen()
	s.Calls.Workshop = b.named()
	return s
}

// named is the workshop that a call has to name; empty for none.
func (b *bench) named() string {
	if b.file == os.Getenv(workshopVariable) {
		return ""
	}
	return b.file
}

// read opens the workshop for who asks it.
func (b *bench) read(ask func(*workshop.Store) error) error {
	s, err := b.open(false)
	if errors.Is(err, workshop.ErrNone) {
		return fmt.Errorf("%w; %s makes it", err, b.recommended().Call("workshop add"))
	}
	if err != nil {
		return err
	}
	defer s.Close()
	if s.OnlyAdds() {
		return fmt.Errorf("in the workshop %s this user may only add; ask as one who may read it",
			render.Clean(s.Where))
	}
	return ask(s)
}

func (a *app) workshopCommand() *cobra.Command {
	b := &bench{app: a}
	cmd := &cobra.Command{
		Use:   "workshop",
		Short: "Bring many machines together, and ask what they have in common",
		Long: `Workshop is a store of many machines on your own computer: what they launch,
what that costs, and what decisions brought. Called alone it says what it holds.
Undo never needs it: each machine keeps a casebook of its own.

Machines are known in it by sums of their ids. With add --anonymous neither
users nor the names of machines are kept. docs/workshop.md tells what is.`,
		Example: `  calmdawn workshop add                    this machine
  calmdawn --root /mnt workshop add        the disk mounted at /mnt
  calmdawn workshop add casebooks lists    all in these folders
  calmdawn workshop costs                  what costs most over all
  calmdawn workshop slower --since 2026-05-01`,
		Args: noWords,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return usage("workshop alone prints no document; its questions do")
			}
			return b.read(func(s *workshop.Store) error {
				st, err1 := s.Standing()
				waiting, err2 := s.Waiting()
				if err := errors.Join(err1, err2); err != nil {
					return err
				}
				say.ShowWorkshop(b.recommended(), s.Where, st, waiting)
				return nil
			})
		},
	}
	cmd.PersistentFlags().StringVar(&b.file, "workshop", os.Getenv(workshopVariable), "the "+
		"workshop is `FILE`, or postgres://USER@HOST/DATABASE; "+workshopVariable+" stands for "+
		"it, else it is your own")
	cmd.AddCommand(b.addCommand())
	for _, q := range questions {
		cmd.AddCommand(b.question(q))
	}
	cmd.AddCommand(b.forgetCommand())
	return cmd
}

// A question is one that the workshop answers.
type question struct {
	use, short, long, example string
	words                     [2]int // how many it takes, at least and at most
	misuse                    string // said where they are others
	since                     bool   // it takes a day
	ask                       func(s *workshop.Store, text string, day time.Time) (answered, error)
}

// An answered question, as a document and as a table.
type answered struct {
	document document.Workshop
	table    say.Answer
}

// rowsOf makes both of the rows of an answer.
func rowsOf[T any](
	question string,
	rows []T,
	row func(T) document.WorkshopRow,
	table func([]T) say.Answer,
) answered {
	return answered{document.NewWorkshop(question, rows, row), table(rows)}
}

var questions = []question{
	{
		use:   "who TEXT",
		short: "Show which machines launch an item, or what a maker made",
		long: `Who shows each machine that launches an item with a text in its title, name or
maker, with the version there. All are listed, however few.`,
		example: "  calmdawn workshop who cue-update\n" +
			"  calmdawn workshop who \"pellin ticketworks\"",
		words:  [2]int{1, 1},
		misuse: "workshop who takes one text, such as a maker's name in quotes",
		ask: func(s *workshop.Store, text string, _ time.Time) (answered, error) {
			rows, err := s.Who(text)
			return rowsOf("who", rows, document.HoldingRow, say.Holdings), err
		},
	},
	{
		use:     "costs",
		short:   "Show what costs most over all machines",
		long:    `Costs shows for which items people wait longest, over all machines together.`,
		example: "  calmdawn workshop costs\n  calmdawn workshop costs --csv > costs.csv",
		ask: func(s *workshop.Store, _ string, _ time.Time) (answered, error) {
			rows, err := s.Costs()
			return rowsOf("costs", rows, document.ExpenseRow, say.Expenses), err
		},
	},
	{
		use:   "effects [TEXT]",
		short: "Show what switching items off brought, measured, and how often it was taken back",
		long: `Effects shows what was measured where items were switched off or delayed. A
figure counts for an item only where its change turned that item alone.`,
		example: "  calmdawn workshop effects\n  calmdawn workshop effects cue-update",
		words:   [2]int{0, 1},
		misuse:  "workshop effects takes one text at most; put it in quotes",
		ask: func(s *workshop.Store, text string, _ time.Time) (answered, error) {
			rows, err := s.Effects(text)
			return rowsOf("effects", rows, document.EffectRow, say.Effects), err
		},
	},
	{
		use:   "slower --since DAY",
		short: "Show which machines became slower since a day, and what changed on them",
		long: `Slower shows the machines whose boots take longer since a day. It names what
changed on them since then: items that came, or have another version. Each is
held against the machines that did not become slower. With --csv it prints the
machines alone.`,
		example: "  calmdawn workshop slower --since 2026-05-01",
		since:   true,
		ask: func(s *workshop.Store, _ string, day time.Time) (answered, error) {
			slower, suspects, others, err := s.Slower(day)
			return answered{
				document.NewSlower(slower, suspects), say.Slowed(slower, suspects, others),
			}, err
		},
	},
	{
		use:     "returned",
		short:   "Show what was switched off and is on again",
		long:    `Returned shows what is launched again although nobody took the change back.`,
		example: "  calmdawn workshop returned",
		ask: func(s *workshop.Store, _ string, _ time.Time) (answered, error) {
			rows, err := s.Returned()
			return rowsOf("returned", rows, document.ReturnRow, say.Returned), err
		},
	},
	{
		use:     "visits",
		short:   "Show which machines have most that could go",
		long:    `Visits shows which machines launch most of what could go, by how long it takes.`,
		example: "  calmdawn workshop visits",
		ask: func(s *workshop.Store, _ string, _ time.Time) (answered, error) {
			rows, err := s.Visits()
			return rowsOf("visits", rows, document.CallRow, say.Visits), err
		},
	},
}

// question is the command of a question.
func (b *bench) question(q question) *cobra.Command {
	cmd := &cobra.Command{
		Use: q.use, Short: q.short, Long: q.long, Example: q.example,
		Args: func(cmd *cobra.Command, args []string) error {
			if q.misuse == "" {
				return noWords(cmd, args)
			}
			if len(args) < q.words[0] || len(args) > q.words[1] {
				return usage("%s", q.misuse)
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if b.csv && b.json {
				return usage("--csv and --json are two forms; choose one")
			}
			day, err := time.ParseInLocation(time.DateOnly, b.since, time.Local)
			if q.since && err != nil {
				return usage("workshop slower takes --since with a day, such as 2026-05-01")
			}
			return b.read(func(s *workshop.Store) error {
				got, err := q.ask(s, strings.Join(args, ""), day)
				if err != nil {
					return err
				}
				return b.show(s, got)
			})
		},
	}
	cmd.Flags().BoolVar(&b.all, "all", false, "show all rows")
	cmd.Flags().BoolVar(&b.csv, "csv", false, "print comma-separated values, safe to open in a "+
		"spreadsheet")
	if q.since {
		cmd.Flags().StringVar(&b.since, "since", "", "the `DAY` from which on, such as 2026-05-01")
	}
	return cmd
}

// show prints an answer in the form that was asked for.
func (b *bench) show(s *workshop.Store, got answered) error {
	switch {
	case b.json:
		return b.writeJSON(got.document)
	case b.csv:
		return b.writeCSV(got.table.CSV())
	}
	most := mostRows
	if b.all {
		most = 0
	}
	got.table.Show(b.screen(), most)
	st, err := s.Standing()
	if err == nil {
		say.ShowSimulated(b.screen(), st)
	}
	return err
}

func (b *bench) forgetCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "forget MACHINE|WHO",
		Short: "Take a machine out of the workshop, or all that somebody added",
		Long: `Forget takes out all that is known of a machine, by its name in the workshop,
or of all machines that somebody added last. The machines themselves stay as
they are.`,
		Example: "  calmdawn workshop forget meridian",
		Args: func(_ *cobra.Command, args []string) error {
			if b.json {
				return usage("workshop forget prints no document")
			}
			if len(args) != 1 {
				return usage("workshop forget takes the name of a machine, or of who added some")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			return b.read(func(s *workshop.Store) error {
				n, err := s.Forget(args[0])
				if err == nil && n == 0 {
					err = fmt.Errorf("no machine of the workshop is called %q or was added by "+
						"somebody of that name; nothing was taken out", args[0])
				}
				if err == nil {
					b.screen().Line("Forgotten: %s.", say.Count(int(n), "machine", "machines"))
				}
				return err
			})
		},
	}
}

func (b *bench) addCommand() *cobra.Command {
	anonymous, inbox := false, false
	cmd := &cobra.Command{
		Use:   "add [FILE|FOLDER...]",
		Short: "Add this machine, casebooks, or documents of list --all --json",
		Long: `Add brings a machine into the workshop: this one, or the disk of --root. It
takes files too: casebooks, and documents of calmdawn list --all --json, and
folders of both. What was added already changes nothing, so that a call that
was stopped is simply made again.`,
		Example: `  calmdawn workshop add
  calmdawn --root /mnt workshop add
  calmdawn workshop add --anonymous lists`,
		Args: func(*cobra.Command, []string) error {
			if b.json {
				return usage("workshop add prints no document; its questions do")
			}
			return nil
		},
		ValidArgsFunction: cobra.FixedCompletions(nil, cobra.ShellCompDirectiveDefault),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := b.open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			x := adding{bench: b, store: s, anonymous: anonymous}
			if inbox {
				return x.takeIn(args)
			}
			if len(args) == 0 {
				return x.addMachine()
			}
			return x.addFiles(args)
		},
	}
	cmd.Flags().BoolVar(&inbox, "inbox", false, "take in what users delivered who may only add")
	cmd.Flags().BoolVar(&anonymous, "anonymous", false, "keep neither users nor the names of "+
		"machines")
	return cmd
}

// An adding is one call of workshop add.
type adding struct {
	*bench
	store     *workshop.Store
	anonymous bool

	added, same, failed int
}

func (x *adding) add(d workshop.Delivery) (workshop.Added, error) {
	if x.anonymous {
		d = d.Anonymous()
	}
	done, err := x.store.Add(d, x.now(), whoami())
	if named := (*workshop.Named)(nil); errors.As(err, &named) {
		err = fmt.Errorf("%w; take it out first: %s", err,
			x.recommended().Call("workshop forget "+say.ShellWord(named.Name)))
	}
	return done, err
}

// takeIn takes in what waits in the inbox.
func (x *adding) takeIn(args []string) error {
	switch {
	case len(args) > 0 || x.anonymous:
		return usage("workshop add --inbox takes nothing else: it is about what waits there")
	case x.store.OnlyAdds():
		return errors.New("this user may only add; have one take it in who may write all tables")
	}
	taken, refused, err := x.store.TakeIn(x.now())
	for _, why := range refused {
		fmt.Fprintln(x.Err, render.Clean(why.Error()))
	}
	if err != nil {
		return err
	}
	x.screen().Line("%s taken in, %d refused.", say.Count(taken, "delivery", "deliveries"),
		len(refused))
	if len(refused) > 0 {
		return &status{exitFailed, errors.New("what was refused is named above, and thrown away")}
	}
	return nil
}

// addMachine adds the machine that the call is about.
func (x *adding) addMachine() error {
	l, err := x.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	all := document.NewList(l.Survey, l.Items, 0, l.Changes, factsOf(l))
	d, err := workshop.FromDocument(all)
	if err != nil {
		return fmt.Errorf("this machine cannot be added: %w", err)
	}
	boots := l.Remember(0).Boots
	d.Tell(all, boots, l.Outcomes(boots))
	done, err := x.add(d)
	if err != nil {
		return fmt.Errorf("this machine cannot be added: %w", err)
	}
	x.tell(say.MachineName(l), done, "")
	return nil
}

// tell says what became of one delivery.
func (x *adding) tell(from string, done workshop.Added, said string) {
	state := "added"
	switch {
	case done.Sent && done.New == 0:
		state = "it waits in the inbox already"
	case done.Sent:
		state = "delivered to the inbox"
	case done.New == 0:
		state = "nothing new"
	case done.Known:
		state = "brought up to date"
	}
	line := fmt.Sprintf("%s: %s", render.Clean(from), state)
	if !done.Sent {
		line += ", as " + render.Clean(done.Name)
	}
	if done.Clone {
		line += "; another machine has the same id, so this one has a name of its own"
	}
	if said != "" {
		line += "; " + said
	}
	x.screen().Wrap(2, "%s", line)
}

// addFiles adds files, and those in folders. Each is kept whole or not at all;
// one that cannot be read is told, and does not stop the others.
func (x *adding) addFiles(names []string) error {
	defer x.progress("bringing machines together")()
	own, _ := os.Stat(x.store.File) // of a server there is none
	for _, name := range names {
		if _, err := os.Stat(name); err != nil {
			return usage("%s: there is no such file or folder", name)
		}
	}
	for _, name := range names {
		err := filepath.WalkDir(name, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				x.fail(path, err)
				return nil
			}
			if e.IsDir() {
				return nil
			}
			wanted := path == name || strings.HasSuffix(path, ".json") ||
				strings.HasSuffix(path, ".db")
			info, err := os.Stat(path)
			itself := err == nil && own != nil && os.SameFile(info, own)
			if wanted && err == nil && info.Mode().IsRegular() && !itself {
				x.addFile(path)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	x.screen().Line("%s added or brought up to date, %s nothing new, %s could not be read.",
		say.Count(x.added, "delivery", "deliveries"), fmt.Sprint(x.same), fmt.Sprint(x.failed))
	if x.failed > 0 {
		return &status{exitFailed, errors.New("some files were not added; they are named above")}
	}
	return nil
}

func (x *adding) fail(path string, err error) {
	x.failed++
	why := err.Error()
	if errors.Is(err, fs.ErrPermission) {
		why = "this user may not read it"
	}
	fmt.Fprintf(x.Err, "%s: %s\n", render.Clean(path), render.Clean(why))
}

func (x *adding) addFile(path string) {
	var d workshop.Delivery
	var said string
	casebook, err := workshop.IsCasebook(path)
	switch {
	case err != nil:
	case casebook:
		d, said, err = workshop.FromCasebook(path)
	default:
		var text []byte
		if text, err = ownfile.Read(path); err == nil {
			d, err = workshop.FromList(text)
		}
	}
	var done workshop.Added
	if err == nil {
		done, err = x.add(d)
	}
	switch {
	case err != nil:
		x.fail(path, err)
	case done.New == 0:
		x.same++
	default:
		x.added++
		if done.Clone || said != "" {
			x.tell(path, done, said)
		}
	}
}
