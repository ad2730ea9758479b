package cli

import (
	"calmdawn/internal/core/change"
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
