package review

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	tea "github.com/charmbracelet/bubbletea"

	_ "calmdawn/internal/quiet" // the library asks no terminal for its colours
)

// A Broken is why the screen ended by a fault of ours.
type Broken struct{ Why any }

func (b *Broken) Error() string {
	return fmt.Sprintf("the review broke off (%v); nothing was changed on the machine", b.Why)
}

// Run shows the screen on a terminal until the person leaves it. It returns how
// the plan is to be carried out; nil where it is not. It may be called again,
// and goes on then. Caught is a signal that ended it. However it ends, the
// terminal is as it was.
func (m *Model) Run(in io.Reader, out io.Writer) (carry *Carry, caught os.Signal, err error) {
	m.outcome, m.mode = nil, listing
	g := &guarded{m: m}
	g.program = tea.NewProgram(g, tea.WithInput(in), tea.WithOutput(out), tea.WithAltScreen(),
		tea.WithoutSignalHandler())
	signals := make(chan os.Signal, 4)
	for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(s) {
			signal.Notify(signals, s)
		}
	}
	ended := make(chan struct{})
	go func() {
		select {
		case s := <-signals:
			g.program.Send(s)
		case <-ended:
		}
	}()
	_, err = g.program.Run()
	signal.Stop(signals)
	close(ended)
	switch {
	case g.broken != nil:
		return nil, nil, g.broken
	case err != nil && !errors.Is(err, tea.ErrProgramKilled):
		return nil, g.caught, fmt.Errorf("the review cannot be shown on this terminal: %w", err)
	}
	return m.outcome, g.caught, nil
}

// guarded is the model with what keeps a fault of ours, or a signal, from
// leaving the terminal as it must not be.
type guarded struct {
	m       *Model
	program *tea.Program
	broken  *Broken
	caught  os.Signal
}

func (g *guarded) Init() tea.Cmd { return g.all(g.m.Begin()) }

func (g *guarded) Update(msg tea.Msg) (next tea.Model, cmd tea.Cmd) {
	defer func() {
		if why := recover(); why != nil {
			g.broken, next, cmd = &Broken{why}, g, tea.Quit
		}
	}()
	switch msg := msg.(type) {
	case *Broken:
		g.broken = msg
		return g, tea.Quit
	case os.Signal:
		g.caught = msg
		return g, tea.Quit
	}
	return g, g.all(g.m.Update(msg))
}

func (g *guarded) View() (text string) {
	defer func() {
		if why := recover(); why != nil {
			text = ""
			go g.program.Send(&Broken{why})
		}
	}()
	if g.broken != nil || g.caught != nil {
		return ""
	}
	return g.m.View()
}

// all are commands as one, each of which tells of a fault instead of ending the
// program.
func (g *guarded) all(cmds []tea.Cmd) tea.Cmd {
	for i, cmd := range cmds {
		cmds[i] = func() (msg tea.Msg) {
			defer func() {
				if why := recover(); why != nil {
					msg = &Broken{why}
				}
			}()
			return cmd()
		}
	}
	return tea.Batch(cmds...)
}
