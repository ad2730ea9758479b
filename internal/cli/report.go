package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/compare"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

// reportView is how a report is to be written.
type reportView struct {
	compareView
	file, by, contact string
	pictures          string
	before, after     string
	replace           bool
}

func (a *app) reportCommand() *cobra.Command {
	var v reportView
	cmd := &cobra.Command{
		Use:   "report [FILE]",
		Short: "Write down before and after for the customer, or for the ticket",
		Long: `Report writes one file that tells what was done to this machine and what it
brought. The end of its name says the form: .html, a page for the customer; .md,
a text for the ticket; .json, for programs.

The first part is the customer's: how much sooner one can work, what was done,
what to look out for and whom to ask. The rest is for whoever looks after the
machine. It holds a boot before and one after, and each change with its way
back. It tells what was left and why, and in what condition the machine is.

  .html    a page for the customer: it needs nothing besides itself, and prints well
  .md      text with tables, for a ticket
  .json    for programs

Without a name it writes a page named after the machine and the day, into the
present folder. The boots are those before and after the last job; --before and
--after choose others, as compare does.`,
		Example: `  calmdawn report
  calmdawn report meridian.html --by "Workshop at the old harbour" --contact "Mole 4, at any hour"
  calmdawn report ticket.md
  calmdawn report --before 1-5 --after 6-10 memory.html
  calmdawn report --pictures plots plots.html        the plots as PNG and SVG too`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("report writes one file, and %q is a second", args[1])
			}
			return nil
		},
		ValidArgsFunction: files("html", "md", "json"),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				v.file = args[0]
			}
			if (v.before == "") != (v.after == "") &&
				!strings.HasPrefix(v.before+v.after, "change:") && v.with == "" {
				return usage("--before and --after choose the two sides; give both, or one of " +
					"them as change:N")
			}
			if err := v.check(); err != nil {
				return err
			}
			return a.report(v)
		},
	}
	cmd.Flags().StringVar(&v.by, "by", "", "who made it, a `NAME` to stand at the top")
	cmd.Flags().StringVar(&v.contact, "contact", "", "how the customer reaches you, a `TEXT` "+
		"for the first part")
	cmd.Flags().StringVar(&v.before, "before", "", "the `BOOTS` before, as compare takes them")
	cmd.Flags().StringVar(&v.after, "after", "", "the `BOOTS` after")
	v.flags(cmd)
	cmd.Flags().StringVar(&v.pictures, "pictures", "", "write the plots into the folder `DIR` "+
		"too, as PNG and as SVG")
	cmd.Flags().BoolVar(&v.replace, "replace", false, "write over a file of that name")
	return cmd
}

func (a *app) report(v reportView) error {
	l, err := a.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	file := v.file
	if file == "" && !a.json {
		name := strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
				return r
			}
			return '-'
		}, cmp.Or(l.Host, "machine"))
		file = fmt.Sprintf("report-%s-%s.html", name, a.now().Format(time.DateOnly))
	}
	form := strings.ToLower(filepath.Ext(file))
	if file != "" && !slices.Contains([]string{".html", ".md", ".json"}, form) {
		return usage("a report's name ends in .html, .md or .json, which %q does not", file)
	}
	if _, err := os.Lstat(file); file != "" && err == nil && !v.replace {
		return fmt.Errorf("%s is there already; give another name, or --replace to write over it",
			file)
	}
	t, err := a.tell(l, v)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(t.Document())
	}
	s := a.screen()
	if v.pictures != "" {
		if err := a.drawReport(s, t, v.pictures); err != nil {
			return err
		}
	}
	err = ownfile.Write(file, func(w io.Writer) error {
		if form == ".json" {
			enc := json.NewEncoder(w)
			enc.SetIndent("", "  ")
			return enc.Encode(t.Document())
		}
		r, err := t.Page()
		if err != nil {
			return err
		}
		if form == ".md" {
			return r.WriteMarkdown(w)
		}
		return r.WriteHTML(w)
	})
	if err != nil {
		return fmt.Errorf("the report cannot be written: %w", err)
	}
	s.Say(render.Strong, "%s", t.Headline())
	s.Line("")
	s.Line("The report stands in %s.", render.Clean(file))
	return nil
}

// tell gathers what there is to tell.
func (a *app) tell(l *visit.Visit, v reportView) (*say.Report, error) {
	done := a.progress("reading the log")
	defer done()
	var words []string
	for _, w := range []string{v.before, v.after} {
		if w != "" {
			words = append(words, w)
		}
	}
	q := v.question(words)
	t := &say.Report{
		Visit: l, By: v.by, Contact: v.contact, At: a.now(), Boots: q.Judged(l.Remember(0).Boots),
		Casebook: a.casebook,
	}
	c, compared, err := l.Compare(q, t.Boots)
	if err != nil {
		return nil, err
	}
	t.Comparison, t.Compared = say.NewComparison(c, l), compared
	t.Present = l.Conditions()
	for _, it := range l.Items {
		if it.State.Launched() && !it.System && it.Advice != "" && !it.Ours {
			t.Left = append(t.Left, it)
		}
	}
	l.SortByCost(t.Left)
	on := t.On
	if on.Name == "" || len(t.Sides.Before)+len(t.Sides.After) == 0 {
		on = compare.Leading(t.Boots, t.Boots, v.on == "usable")
	}
	t.Plot(on)
	t.Pair()
	return t, nil
}

// drawReport writes the plots into a folder.
func (a *app) drawReport(s say.Page, t *say.Report, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("the folder for pictures cannot be made: %w", err)
	}
	pictures := t.Pictures()
	for _, end := range []string{".png", ".svg"} {
		for _, name := range slices.Backward(slices.Sorted(maps.Keys(pictures))) {
			file := filepath.Join(folder, name+end)
			if err := a.drawPicture(s, file, pictures[name]); err != nil {
				return err
			}
		}
	}
	return nil
}
