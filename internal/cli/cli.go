// Package cli is the command line: one file a command, each of which reads its
// flags, calls, and shows what came back.
package cli

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/demo"
	"calmdawn/internal/say"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"calmdawn/internal/casebook"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
	"calmdawn/internal/shell"
	"calmdawn/internal/visit"
)

// The exit statuses that scripts rely on.
const (
	exitFailed = 1 // it failed, and says what and what to do
	exitUsage  = 2 // the call's words are off
	exitNo     = 3 // the question was answered with "no"
	exitPartly = 4 // a proposal was applied as far as its items exist here
	exitUnsure = 5 // the question has no answer yet: there are too few boots
)

// Streams are where a call reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	Width    int  // columns of Out; 0 for a pipe
	Height   int  // lines of Out; 0 where no text is too long for it
	Terminal bool // Out is a terminal
	Ask      bool // a person can answer on In
	UTF8     bool
	Now      func() time.Time // nil for the real clock
	State    string           // where last lists are kept; empty for the technician's own folder
}

// An app is one call: its streams and the flags that all commands share.
type app struct {
	Streams
	now func() time.Time

	dir      string
	casebook string
	// thisMachine says that the casebook is this machine's, whose id was
	// changed.
	thisMachine bool
	json        bool
	secrets     bool // show --secrets
	color       string
	answered    bool // --yes: nobody looks at a question
	pager       string
	verbose     bool
	traced      func()   // ends what --verbose began; nil where it did not
	commands    []string // their names
	held        *pager   // the output that waits for the pager; nil where none does

	warned    []string // what was said of the casebook
	guardSaid string   // what was last said of the boot guard
	said      []string // what is said once however often it is planned
	// the call is about what interrupted changes left open, and tells of it
	// itself
	closing bool
	forgets bool      // what was typed before a question is no answer to it
	caught  os.Signal // the signal that was held off while edits were made
}

// Main runs the command line on the process's own streams and returns the exit
// status.
func Main(args []string) int {
	width, height := size(os.Stdout)
	code, caught := run(args, Streams{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr,
		Width: width, Height: height, Terminal: term.IsTerminal(int(os.Stdout.Fd())),
		Ask: term.IsTerminal(int(os.Stdin.Fd())), UTF8: utf8Locale(),
	})
	if own, err := os.FindProcess(os.Getpid()); caught != nil && err == nil &&
		own.Signal(caught) == nil {
		time.Sleep(time.Second) // what was done is said; now it ends as it was asked to
	}
	return code
}

// size is that of a terminal, in columns and lines; 0 for anything else.
func size(f *os.File) (width, height int) {
	if !term.IsTerminal(int(f.Fd())) {
		return 0, 0
	}
	w, h, err := term.GetSize(int(f.Fd()))
	if err != nil || w <= 0 {
		return 80, 24
	}
	return w, h
}

// locale follows locale(7): the first of the three that is set decides.
func locale() string {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := os.Getenv(name); v != "" {
			return v
		}
	}
	return ""
}

func utf8Locale() bool {
	v := strings.ToLower(locale())
	return strings.Contains(v, "utf-8") || strings.Contains(v, "utf8")
}

// Run runs one call and returns its exit status.
func Run(args []string, s Streams) int {
	code, _ := run(args, s)
	return code
}

// run also returns the signal that was held off while edits were made.
func run(args []string, s Streams) (code int, caught os.Signal) {
	a := &app{Streams: s}
	if a.Now == nil {
		a.Now = time.Now
	}
	a.now = func() time.Time { return demo.Clock(a.dir, a.Now()) }
	root := a.command()
	root.SetArgs(bareInsist(args))
	root.SetIn(s.In)
	root.SetOut(s.Out)
	root.SetErr(s.Err)
	err := root.Execute()
	if a.traced != nil {
		a.traced()
	}
	a.release()
	if err == nil {
		return 0, a.caught
	}
	var st *status
	if misuse := (*visit.Misuse)(nil); errors.As(err, &misuse) {
		st = &status{exitUsage, err}
	} else if !errors.As(err, &st) {
		st = &status{exitFailed, err}
	}
	if st.err != nil {
		a.complain(st.err)
	}
	return st.code, a.caught
}

// complain says what went wrong.
func (a *app) complain(err error) {
	say := render.NewScreen(a.Err, a.Width, false, a.UTF8)
	for i, line := range strings.Split(a.calls().Named(err.Error()), "\n") {
		lead := "  "
		if i == 0 {
			lead = "calmdawn: "
		}
		say.Wrap(2, "%s%s", lead, render.CleanWhole(line)) // values from a machine may be in it
	}
}

// A status is an error with the exit status it ends the call with.
type status struct {
	code int
	err  error
}

func (s *status) Error() string {
	if s.err == nil {
		return fmt.Sprintf("exit status %d", s.code)
	}
	return s.err.Error()
}

func (s *status) Unwrap() error { return s.err }

func usage(format string, values ...any) error {
	return &status{exitUsage, fmt.Errorf(format, values...)}
}

// otherWords are what people may call what we call otherwise.
var otherWords = func() map[string]string {
	all := map[string]string{}
	for ours, theirs := range map[string]string{
		"":             "status state overview",
		"list":         "ls scan inventory programs services tasks startup",
		"show ITEM":    "info about describe inspect page",
		"disable ITEM": "off stop deactivate remove delete",
		"enable ITEM":  "on start activate",
		"delay ITEM":   "later postpone wait",
		"undo last":    "restore revert rollback back",
		"history":      "log changes done",
		"drift --keep": "snapshot save",
		"drift":        "diff",
		"boots":        "times time measure",
		"forecast":     "predict estimate simulate",
		"conditions":   "check health",
		"review":       "ui tui",
		"recorder on":  "record",
		"report":       "print",
	} {
		for word := range strings.FieldsSeq(theirs) {
			all[word] = ours
		}
	}
	return all
}()

// Commands is the tree of commands, for those who write about it. It is not to
// be executed.
func Commands() *cobra.Command {
	a := &app{Streams: Streams{Out: io.Discard, Err: io.Discard}, now: time.Now}
	return a.command()
}

func (a *app) command() *cobra.Command {
	version := false
	root := &cobra.Command{
		Use: "calmdawn",
		Short: "See what a machine launches at boot and login, switch off what is not needed, " +
			"and take it back",
		Long: `Calm Dawn shows everything that a machine launches by itself at boot and at
login. It switches unneeded items off in a way that can always be taken back,
and says what to do next. Called alone it says where this machine stands.`,
		Example: `  calmdawn demo                              the whole job on a made-up machine
  calmdawn list                              what this machine launches
  calmdawn --root /mnt list                  of the disk mounted at /mnt
  calmdawn show star-index                   a page about one item
  calmdawn disable cue-update.service        switch it off, after a question
  calmdawn boots                             how long its boots took
  calmdawn compare                           before and after the last changes
  calmdawn undo last                         take the last change back`,
		SilenceErrors: true, SilenceUsage: true,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			hint := ""
			if words, ok := otherWords[strings.ToLower(args[0])]; ok {
				hint = "; did you mean " + a.call(words) + "?"
			} else if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
				hint = "; did you mean " + strings.Join(near, " or ") + "?"
			}
			return usage("there is no command %q%s\ncalmdawn --help lists them", args[0], hint)
		},
		RunE: func(*cobra.Command, []string) error {
			if version {
				return a.sayVersion()
			}
			return a.standing()
		},
	}
	root.Flags().BoolVar(&version, "version", false, "what this program was made from")
	root.SuggestionsMinimumDistance = 2
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usage("%w\n%s --help explains the flags", err, cmd.CommandPath())
	})
	flags := root.PersistentFlags()
	flags.StringVar(&a.dir, "root", cmp.Or(os.Getenv(rootVariable), "/"), "work on the machine "+
		"whose disk is mounted at `DIR`; "+rootVariable+" stands for it")
	flags.StringVar(&a.casebook, "casebook", "", "keep this machine's changes in `FILE` instead "+
		"of inside the machine")
	flags.BoolVar(&a.thisMachine, "this-machine", false, "the casebook is this machine's, "+
		"although it was kept under another machine id")
	flags.BoolVar(&a.json, "json", false, "print one JSON document instead of text")
	flags.StringVar(&a.color, "color", "auto", "colour `WHEN`: auto, always or never")
	flags.StringVar(&a.pager, "pager", "", "show long text through `COMMAND`, or off; $PAGER "+
		"if not given")
	flags.BoolVar(&a.verbose, "verbose", os.Getenv(logVariable) == "debug", "tell on standard "+
		"error all that is read, asked and decided; "+logVariable+"=debug stands for it")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if a.verbose {
			a.traced = trace(a.Err, said(cmd))
		}
		for flag, value := range map[string]string{"root": a.dir, "casebook": a.casebook} {
			if _, ok := shell.Word(value); !ok {
				return usage("--%s %q: its name holds what no terminal shows, so no command that "+
					"names it could be given; go there by another name, as a link", flag, value)
			}
		}
		switch a.color {
		case "auto", "always", "never":
			a.hold(cmd)
			return nil
		}
		return usage("--color takes auto, always or never, not %q", a.color)
	}
	cobra.EnableCommandSorting = false // they stand in the order in which the work is done
	root.AddCommand(a.listCommand(), a.showCommand(), a.noteCommand(), a.bootsCommand(),
		a.recorderCommand(), a.conditionsCommand(), a.forecastCommand(),
		a.reviewCommand(), a.turnCommand(disableWords),
		a.turnCommand(delayWords), a.turnCommand(enableWords), a.proposeCommand(),
		a.applyCommand(), a.trialCommand(), a.guardCommand(), a.historyCommand(), a.undoCommand(),
		a.compareCommand(), a.reportCommand(), a.driftCommand(), a.labelCommand(),
		a.workshopCommand(), a.demoCommand(), a.diagnoseCommand(), a.recordCommand(),
		a.leavingCommand())
	for _, cmd := range root.Commands() {
		a.commands = append(a.commands, cmd.Name())
	}
	a.shapeHelp(root)
	a.scripts(root)
	a.complete(root)
	return root
}

func (a *app) sayVersion() error {
	v := document.ThisVersion()
	if a.json {
		return a.writeJSON(v)
	}
	parts := []string{"calmdawn " + v.Version, v.Target, v.Go}
	if v.Changed {
		parts = append(parts, "built from changed files")
	}
	_, err := fmt.Fprintln(a.Out, strings.Join(parts, ", "))
	return err
}

// site is the machine that the call is about, and who works on it.
func (a *app) site() visit.Site {
	return visit.Site{
		Dir:      a.dir,
		Casebook: casebook.Choice{File: a.casebook, ThisMachine: a.thisMachine},
		Now:      a.now,
		By:       whoami(),
		Language: locale(),
		Remote:   os.Getenv("SSH_CONNECTION") != "",
		Secrets:  a.secrets,
		Listed:   a.lastList,
		Warn: func(warning string) {
			if !slices.Contains(a.warned, warning) {
				fmt.Fprintln(a.Err, warning)
				a.warned = append(a.warned, warning)
			}
		},
	}
}

// screen is where text for people goes; with --json that is the error stream.
func (a *app) screen() say.Page {
	w := a.Out
	if a.json {
		w = a.Err
	}
	return a.page(w)
}

// page is a screen on a stream, with the commands that it recommends.
func (a *app) page(w io.Writer) say.Page {
	return say.Page{Screen: render.NewScreen(w, a.Width, a.colour(), a.UTF8), Calls: a.calls()}
}

// calls are how the user would call us again on the same machine.
func (a *app) calls() say.Calls {
	c := say.Calls{Casebook: a.casebook, Commands: a.commands}
	if a.saysRoot() {
		c.Root = a.dir
	}
	return c
}

// call is how the user would call us again on the same machine: for a screen,
// which keeps it whole.
func (a *app) call(words string) string { return a.calls().Call(words) }

func (a *app) colour() bool {
	return a.color == "always" ||
		a.color == "auto" && a.Terminal && os.Getenv("NO_COLOR") == "" &&
			showsColour(os.Getenv("TERM")) && (a.held == nil || passesColour(a.held.command))
}

// showsColour reports whether a kind of terminal, as of term(7), has colours.
func showsColour(term string) bool { return term != "dumb" && !strings.HasPrefix(term, "vt") }

// rootVariable stands for --root.
const rootVariable = "CALMDAWN_ROOT"

// saysRoot reports whether a call has to name the machine's folder. The
// variable suffices only where nothing is likely to drop it: programs by which
// one becomes root do.
func (a *app) saysRoot() bool {
	if a.dir == "/" {
		return os.Getenv(rootVariable) != ""
	}
	became := os.Getenv("SUDO_USER") + os.Getenv("DOAS_USER") + os.Getenv("PKEXEC_UID")
	return os.Getenv(rootVariable) != a.dir || os.Geteuid() != 0 || became != ""
}

// writeJSON writes a document, named by its first field.
func (a *app) writeJSON(document any) error {
	enc := json.NewEncoder(a.Out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(document)
}

// writeCSV writes rows as a file of comma-separated values (RFC 4180).
func (a *app) writeCSV(rows [][]string) error { return csv.NewWriter(a.Out).WriteAll(rows) }

// once says a line that a plan gives cause to, however often that is made.
func (a *app) once(line string) {
	if !slices.Contains(a.said, line) {
		a.said = append(a.said, line)
		a.screen().Line("%s", line)
	}
}
