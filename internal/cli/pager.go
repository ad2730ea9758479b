package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// noPager is the word for --pager that turns it off.
const noPager = "off"

// A pager holds a command's text for people until it is whole. Where it is
// longer than the screen, the program shows it that the environment names.
type pager struct {
	command string // as sh -c takes it
	text    bytes.Buffer
	out     io.Writer
}

// pagerFor is the pager that is wanted: of --pager, or of the environment,
// environ(7). What root inherits from whoever became root is not run.
func (a *app) pagerFor() string {
	named := a.pager
	if named == "" && os.Geteuid() != 0 {
		named = os.Getenv("PAGER")
	}
	if named == noPager || !a.Terminal || a.json || a.Height == 0 {
		return ""
	}
	return strings.TrimSpace(named)
}

// hold has the output of a command wait for the pager.
func (a *app) hold(cmd *cobra.Command) {
	const paged = "list show boots conditions forecast history compare drift trial help"
	if !slices.Contains(strings.Fields(paged), cmd.Name()) {
		return
	}
	if command := a.pagerFor(); command != "" {
		a.held = &pager{command: command, out: a.Out}
		a.Out = &a.held.text
		cmd.SetOut(a.Out)
	}
}

// release shows what was held.
func (a *app) release() {
	p := a.held
	if p == nil {
		return
	}
	a.held, a.Out = nil, p.out
	if bytes.Count(p.text.Bytes(), []byte("\n")) >= a.Height {
		// an interrupt is the pager's, as long as it shows the text
		signal.Ignore(os.Interrupt)
		defer signal.Reset(os.Interrupt)
		cmd := exec.Command("/bin/sh", "-c", p.command)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(p.text.Bytes()), p.out, a.Err
		if err := cmd.Start(); err == nil {
			err = cmd.Wait() // it may end before it has read all
			if exit, ok := err.(*exec.ExitError); !ok || exit.ExitCode() < 126 {
				return
			}
		}
		fmt.Fprintf(a.Err, "The pager %q cannot be run; --pager off does without.\n", p.command)
	}
	_, _ = p.out.Write(p.text.Bytes())
}

// passesColour reports whether a pager shows colours as they are: the one of
// POSIX, more(1), does, and less(1) where it is told to.
func passesColour(command string) bool {
	words := strings.Fields(command)
	if len(words) == 0 {
		return true
	}
	switch path.Base(words[0]) {
	case "more", "cat":
		return true
	case "less":
		return slices.ContainsFunc(append(words[1:], strings.Fields(os.Getenv("LESS"))...),
			func(w string) bool {
				return strings.EqualFold(w, "--raw-control-chars") ||
					strings.HasPrefix(w, "-") && !strings.HasPrefix(w, "--") &&
						strings.ContainsAny(w, "rR")
			})
	}
	return false
}
