package cli

import (
	"fmt"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// look surveys the machine, and says what an interrupted change left in it.
func (a *app) look() (*visit.Visit, error) {
	l, err := a.site().Look()
	if err == nil {
		a.tellUnsettled(l.Root, l.Changes)
	}
	return l, err
}

// lookAtBoots does that, and reads the machine's boots.
func (a *app) lookAtBoots() (*visit.Visit, error) {
	l, err := a.look()
	if err != nil {
		return nil, err
	}
	if err := l.ReadBoots(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// openChanges opens the machine and reads its changes.
func (a *app) openChanges() (*visit.Machine, []change.Change, error) {
	m, err := a.site().Open()
	if err != nil {
		return nil, nil, err
	}
	changes, err := m.ReadChanges()
	if err != nil {
		m.Close()
		return nil, nil, err
	}
	a.tellUnsettled(m.Root, changes)
	return m, changes, nil
}

// offSince says by which change and on which day an item was switched off;
// empty when no change did.
func offSince(l *visit.Visit, it item.Item) string {
	if c, again := l.OnAgain(it); again {
		return fmt.Sprintf("on again, change %d", c.ID)
	}
	if c, ok := l.LastChange(it.ID); ok && it.State == item.Off {
		return fmt.Sprintf("%s, change %d", c.MadeAt.Local().Format("2 Jan"), c.ID)
	}
	return ""
}

// machineName is what people call the machine.
func machineName(l *visit.Visit) string {
	if l.Host == "" {
		return "this machine"
	}
	return render.Clean(l.Host)
}

func stateTone(s item.State) render.Tone {
	switch s {
	case item.Off:
		return render.Dim
	case item.Broken:
		return render.Warn
	}
	return render.Plain
}
