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

// A bench is the flags of all questions to the workshop.
type bench struct {
	file     string
	all, csv bool
}

// open opens the workshop that the flags mean.
func (b bench) open(make bool) (*workshop.Store, error) {
	file := b.file
	if file == "" {
		folder, err := notebook.DataFolder()
		if err != nil {
			return nil, usage("there is no folder for a workshop of yours; name a file with " +
				"--workshop FILE")
		}
		if make {
			if err := os.MkdirAll(folder, 0o700); err != nil {
				return nil, err
			}
		}
		file = filepath.Join(folder, "workshop.db")
	}
	return workshop.Open(file, make)
}

func (a *app) workshopCommand() *cobra.Command {
	var b bench
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
			return b.ask(a, func(s *workshop.Store) error {
				st, err := s.Standing()
				if err != nil {
					return err
				}
				if a.json {
					return usage("workshop alone prints no document; its questions do")
				}
				waiting, err := s.Waiting()
				if err == nil {
					say.ShowWorkshop(a.screen(), s.Where, st, waiting)
				}
				return err
			})
		},
	}
	cmd.PersistentFlags().StringVar(&b.file, "workshop", os.Getenv(workshopVariable), "the "+
		"workshop is `FILE`, or postgres://USER@HOST/DATABASE; "+workshopVariable+" stands for "+
		"it, else it is your own")
	cmd.AddCommand(a.workshopAdd(&b), a.workshopWho(&b), a.workshopCosts(&b),
		a.workshopEffects(&b), a.workshopSlower(&b), a.workshopReturned(&b), a.workshopVisits(&b),
		a.workshopForget(&b))
	return cmd
}

// ask opens the workshop for a question.
func (b bench) ask(a *app, question func(*workshop.Store) error) error {
	if b.csv && a.json {
		return usage("--csv and --json are two forms; choose one")
	}
	s, err := b.open(false)
	if err != nil {
		return err
	}
	defer s.Close()
	if s.OnlyAdds() {
		return fmt.Errorf("in the workshop %s this user may only add; ask as one who may read it",
			render.Clean(s.Where))
	}
	return question(s)
}

// show prints an answer in the form that was asked for.
func (b bench) show(a *app, s *workshop.Store, document any, answer say.Answer) error {
	switch {
	case a.json:
		return a.writeJSON(document)
	case b.csv:
		return a.writeCSV(answer.CSV())
	}
	most := mostRows
	if b.all {
		most = 0
	}
	answer.Show(a.screen(), most)
	st, err := s.Standing()
	if err == nil {
		say.ShowSimulated(a.screen(), st)
	}
	return err
}

// question adds the flags of answers to a command.
func (b *bench) question(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&b.all, "all", false, "show all rows")
	cmd.Flags().BoolVar(&b.csv, "csv", false, "print comma-separated values, safe to open in a "+
		"spreadsheet")
	return cmd
}

func (a *app) workshopWho(b *bench) *cobra.Command {
	return b.question(&cobra.Command{
		Use:   "who TEXT",
		Short: "Show which machines launch an item, or what a maker made",
		Long: `Who shows each machine that launches an item with a text in its title, name or
maker, with the version there. All are listed, however few.`,
		Example: "  calmdawn workshop who cue-update\n" +
			"  calmdawn workshop who \"pellin ticketworks\"",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("workshop who takes one text, such as a maker's name in quotes")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			return b.ask(a, func(s *workshop.Store) error {
				rows, err := s.Who(args[0])
				if err != nil {
					return err
				}
				d := document.NewWorkshop("who", rows, document.HoldingRow)
				return b.show(a, s, d, say.Holdings(rows))
			})
		},
	})
}

func (a *app) workshopCosts(b *bench) *cobra.Command {
	return b.question(&cobra.Command{
		Use:     "costs",
		Short:   "Show what costs most over all machines",
		Long:    `Costs shows for which items people wait longest, over all machines together.`,
		Example: "  calmdawn workshop costs\n  calmdawn workshop costs --csv > costs.csv",
		Args:    noWords,
		RunE: func(*cobra.Command, []string) error {
			return b.ask(a, func(s *workshop.Store) error {
				rows, err := s.Costs()
				if err != nil {
					return err
				}
				return b.show(a, s, document.NewWorkshop("costs", rows, document.ExpenseRow),
					say.Expenses(rows))
			})
		},
	})
}

func (a *app) workshopEffects(b *bench) *cobra.Command {
	return b.question(&cobra.Command{
		Use:   "effects [TEXT]",
		Short: "Show what switching items off brought, measured, and how often it was taken back",
		Long: `Effects shows what was measured where items were switched off or delayed. A
figure counts for an item only where its change turned that item alone.`,
		Example: "  calmdawn workshop effects\n  calmdawn workshop effects cue-update",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("workshop effects takes one text at most; put it in quotes")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			return b.ask(a, func(s *workshop.Store) error {
				rows, err := s.Effects(strings.Join(args, ""))
				if err != nil {
					return err
				}
				return b.show(a, s, document.NewWorkshop("effects", rows, document.EffectRow),
					say.Effects(rows))
			})
		},
	})
}

func (a *app) workshopSlower(b *bench) *cobra.Command {
	since := ""
	cmd := b.question(&cobra.Command{
		Use:   "slower --since DAY",
		Short: "Show which machines became slower since a day, and what changed on them",
		Long: `Slower shows the machines whose boots take longer since a day. It names what
changed on them since then: items that came, or have another version. Each is
held against the machines that did not become slower.`,
		Example: "  calmdawn workshop slower --since 2026-05-01",
		Args:    noWords,
		RunE: func(*cobra.Command, []string) error {
			day, err := time.ParseInLocation(time.DateOnly, since, time.Local)
			if err != nil {
				return usage("workshop slower takes --since with a day, such as 2026-05-01")
			}
			return b.ask(a, func(s *workshop.Store) error {
				slower, suspects, others, err := s.Slower(day)
				if err != nil {
					return err
				}
				answer := say.Slowed(slower, others)
				if len(slower) > 0 {
					answer.More = say.Suspects(suspects)
				}
				return b.show(a, s, document.NewSlower(slower, suspects), answer)
			})
		},
	})
	cmd.Flags().StringVar(&since, "since", "", "the `DAY` from which on, such as 2026-05-01")
	return cmd
}

func (a *app) workshopReturned(b *bench) *cobra.Command {
	return b.question(&cobra.Command{
		Use:     "returned",
		Short:   "Show what was switched off and is on again",
		Long:    `Returned shows what is launched again although nobody took the change back.`,
		Example: "  calmdawn workshop returned",
		Args:    noWords,
		RunE: func(*cobra.Command, []string) error {
			return b.ask(a, func(s *workshop.Store) error {
				rows, err := s.Returned()
				if err != nil {
					return err
				}
				return b.show(a, s, document.NewWorkshop("returned", rows, document.ReturnRow),
					say.Returned(rows))
			})
		},
	})
}

func (a *app) workshopVisits(b *bench) *cobra.Command {
	return b.question(&cobra.Command{
		Use:     "visits",
		Short:   "Show which machines have most that could go",
		Long:    `Visits shows which machines launch most of what could go, by how long it takes.`,
		Example: "  calmdawn workshop visits",
		Args:    noWords,
		RunE: func(*cobra.Command, []string) error {
			return b.ask(a, func(s *workshop.Store) error {
				rows, err := s.Visits()
				if err != nil {
					return err
				}
				return b.show(a, s, document.NewWorkshop("visits", rows, document.CallRow),
					say.Visits(rows))
			})
		},
	})
}

func (a *app) workshopForget(b *bench) *cobra.Command {
	return &cobra.Command{
		Use:   "forget MACHINE|WHO",
		Short: "Take a machine out of the workshop, or all that somebody added",
		Long: `Forget takes out all that is known of a machine, by its name in the workshop,
or of all machines that somebody added last. The machines themselves stay as
they are.`,
		Example: "  calmdawn workshop forget meridian",
		Args: func(_ *cobra.Command, args []string) error {
			if a.json {
				return usage("workshop forget prints no document")
			}
			if len(args) != 1 {
				return usage("workshop forget takes the name of a machine, or of who added some")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := b.open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			n, err := s.Forget(args[0])
			if err != nil {
				return err
			}
			if n == 0 {
				return fmt.Errorf("no machine of the workshop is called %q or was added by "+
					"somebody of that name; nothing was taken out", args[0])
			}
			a.screen().Line("Forgotten: %s.", say.Count(int(n), "machine", "machines"))
			return nil
		},
	}
}

func (a *app) workshopAdd(b *bench) *cobra.Command {
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
			if a.json {
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
			x := adding{app: a, store: s, anonymous: anonymous}
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
	*app
	store     *workshop.Store
	anonymous bool

	added, same, failed int
}

func (x *adding) add(d workshop.Delivery) (workshop.Added, error) {
	if x.anonymous {
		d = d.Anonymous()
	}
	return x.store.Add(d, x.now(), whoami())
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
		return err
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
	fmt.Fprintf(x.Err, "%s: %s\n", render.Clean(path), render.Clean(err.Error()))
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
