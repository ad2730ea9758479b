package linux

import (
	"fmt"
	"os"
	"runtime"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/family"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/machine"
)

// Boots are what the log tells of the last boots (0: of all).
func (d disk) Boots(last int) family.Boots {
	logged := journal.Read(d.root, last)
	return family.Boots{Boots: logged.Boots, Unread: logged.Unread}
}

// Boots are that, and what the service managers tell, which are asked for a
// tenth of a second.
func (l live) Boots(last int) family.Boots {
	found := l.disk.Boots(last)
	b, notes := runningBoot(l.root)
	found.Notes = notes
	if b.ID != "" {
		found.Running = &b
	}
	return found
}

// runningBoot asks the service managers of the running machine. What cannot be
// seen is told in notes.
func runningBoot(r *machine.Root) (boot.Boot, []string) {
	var notes []string
	m, err := manager.Connect()
	if err != nil {
		return boot.Boot{}, []string{err.Error()}
	}
	defer m.Close()
	t, err := m.Times()
	if err != nil {
		return boot.Boot{}, []string{
			"the service manager does not tell the times of this boot: " + err.Error(),
		}
	}
	b := boot.Boot{
		ID:      journal.Present(r),
		Began:   t.Began,
		Phases:  t.Phases,
		Sources: []boot.Source{boot.Bus},
		Ending:  boot.Running,
	}
	fifo := manager.FIFOs(r)
	b.Spans, err = m.Spans(t.Origin, manager.Question{Use: true, FIFO: fifo})
	if err != nil {
		notes = append(notes, "the service manager does not tell its units: "+err.Error())
	}
	users, _ := account.Read(r)
	spans, why := make([][]boot.Span, len(users)), make([]error, len(users))
	// Side by side: what listens at a user's socket may let one wait.
	machine.EachWaiting(len(users), func(i int) {
		spans[i], why[i] = userSpans(r, users[i], t.Origin, fifo)
	})
	for i, err := range why {
		if err != nil {
			note := "what runs for " + users[i].Name + " is not known: " + err.Error()
			if os.Geteuid() != 0 {
				note += "; root can ask"
			}
			notes = append(notes, note)
		}
		b.Spans = append(b.Spans, spans[i]...)
	}
	boot.SortSpans(b.Spans)
	if t.Finished > 0 {
		b.Ready = boot.Of(t.Finished, boot.Bus)
		b.AimAt(label.Goals...)
	}
	b.Processors = runtime.NumCPU()
	const soon = 2 * time.Minute
	if up := time.Since(t.Began); t.Finished == 0 || up-t.Finished > soon {
		for i := range b.Spans { // what runs on has used that since the boot, not in it
			if s := &b.Spans[i]; !s.Exited.Known {
				s.CPU, s.DiskRead = boot.Figure{}, boot.Amount{}
			}
		}
	}
	return b, notes
}

// userSpans asks the service manager of a user who has one.
func userSpans(
	r *machine.Root,
	u account.User,
	origin time.Duration,
	fifo bool,
) ([]boot.Span, error) {
	if info, err := r.Stat(userBus(u)); err != nil || info.Kind != machine.Socket {
		return nil, nil
	}
	m, err := manager.ConnectUser(u.Name, u.UID, u.GID)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	return m.Spans(origin, manager.Question{
		Use:  true,
		FIFO: fifo || manager.HomeFIFOs(r, u.Home),
	})
}

func userBus(u account.User) string { return fmt.Sprintf("/run/user/%d/bus", u.UID) }
