package cli

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/secret"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
)

// diagnosed are the calls whose answers go into a fault report.
var diagnosed = []struct{ file, call string }{
	{"version.json", "--version --json"},
	{"standing.txt", ""},
	{"list.json", "list --all --json"},
	{"boots.json", "boots --json"},
	{"conditions.json", "conditions --json"},
	{"forecast.json", "forecast --best --json"},
	{"history.json", "history --json"},
	{"trial.json", "trial --json"},
	{"recorder.json", "recorder status --json"},
	{"guard.json", "guard --json"},
}

func (a *app) diagnoseCommand() *cobra.Command {
	yes := false
	cmd := &cobra.Command{
		Use:   "diagnose FILE",
		Short: "Write what explains a wrong answer into one archive",
		Long: `Diagnose writes one archive (.tar.gz) for a report of a fault in calmdawn. It
holds what calmdawn says of this machine, as documents. With them is what it
read, asked and decided meanwhile. What goes in, and what is left out, is listed
before it is written. Only you can read the file. Look into it before you send
it to anybody.`,
		Example: "  calmdawn diagnose fault.tar.gz\n  calmdawn --root /mnt diagnose fault.tar.gz",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("diagnose takes the name of the file to write, such as fault.tar.gz")
			}
			if a.json {
				return usage("diagnose prints no document; the archive holds them")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.diagnose(args[0], yes) },
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "write it without asking")
	return cmd
}

func (a *app) diagnose(file string, yes bool) error {
	var log bytes.Buffer
	end := trace(&log, []string{"calmdawn", "diagnose"})
	parts := a.answers()
	end()
	parts = append(parts, say.Part{Name: "log.txt", Data: log.Bytes()},
		say.Part{Name: "left-out.txt", Data: []byte(say.LeftOut)})
	s := a.screen()
	say.ShowDiagnosis(s, file, parts)
	switch {
	case yes:
	case !a.Ask:
		return usage("nobody is there to be asked, so nothing was written; call it with --yes to " +
			"do it")
	case !a.yes("Write it? [y/N] "):
		return errors.New("nothing was written")
	}
	err := ownfile.Write(file, func(w io.Writer) error { return packed(w, parts, a.now()) })
	if err == nil {
		s.Line("Written to %s. Look into it before you send it to anybody.", render.Clean(file))
	}
	return err
}

// answers are what our own calls say of the machine, and of what they fail.
func (a *app) answers() (parts []say.Part) {
	for _, d := range diagnosed {
		var out, errs bytes.Buffer
		words := []string{"--root", a.dir, "--pager", "off", "--color", "never", "--verbose=false"}
		if a.casebook != "" {
			words = append(words, "--casebook", a.casebook)
		}
		if a.thisMachine {
			words = append(words, "--this-machine")
		}
		code := Run(append(words, strings.Fields(d.call)...), Streams{
			In: strings.NewReader(""), Out: &out, Err: &errs, Width: 100, Now: a.Now,
		})
		data := out.Bytes()
		if strings.HasSuffix(d.file, ".json") {
			data = withoutOwn(data)
		}
		if len(data) > 0 {
			parts = append(parts, say.Part{Name: d.file, Data: data})
		}
		if errs.Len() > 0 || code != 0 {
			text := fmt.Sprintf("exit status %d\n%s", code, secret.Hide(errs.String()))
			parts = append(parts, say.Part{Name: d.file + ".errors.txt", Data: []byte(text)})
		}
	}
	return parts
}

// private are the fields of documents that hold what is the technician's own,
// or what stood in files and values, and the machine's ids.
var private = map[string]bool{
	"note": true, "data": true, "target": true, "machine_id": true, "hardware_id": true,
}

// withoutOwn takes those out of a document, and the reasons of own rules. One
// that cannot be read is left out whole.
func withoutOwn(document []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(document))
	d.UseNumber()
	var all any
	if d.Decode(&all) != nil {
		return nil
	}
	var strip func(any)
	strip = func(x any) {
		switch x := x.(type) {
		case map[string]any:
			for key, value := range x {
				reason, isText := value.(string)
				if private[key] || isText && strings.Contains(reason, "by your own rule") {
					delete(x, key)
					continue
				}
				strip(value)
			}
		case []any:
			for _, value := range x {
				strip(value)
			}
		}
	}
	strip(all)
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return nil
	}
	return append(text, '\n')
}

// packed writes an archive.
func packed(to io.Writer, parts []say.Part, at time.Time) error {
	z := gzip.NewWriter(to)
	w := tar.NewWriter(z)
	for _, p := range parts {
		err := w.WriteHeader(&tar.Header{
			Typeflag: tar.TypeReg, Name: "calmdawn-fault/" + p.Name, Mode: 0o600,
			Size: int64(len(p.Data)), ModTime: at,
		})
		if err == nil {
			_, err = w.Write(p.Data)
		}
		if err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), z.Close())
}
