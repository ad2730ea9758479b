package linux

import (
	"fmt"
	"runtime"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/linux/label"
	"calmdawn/internal/linux/manager"
	"calmdawn/internal/linux/packages"
	"calmdawn/internal/machine"
)

// Boots are what a machine remembers of its boots, from all sources together.
type Boots struct {
	Boots  []boot.Boot // oldest first, with the reasons not to compare them
	Unread []item.Unread
	Notes  []string // what could not be asked
}

// RememberedBoots puts together what the log, the running service managers and
// the recorder know of the machine's last boots (0: of all). recorded are the
// records of the casebook. On the running machine the service managers are
// asked, which takes a tenth of a second.
func RememberedBoots(r *machine.Root, recorded []boot.Boot, last int) Boots {
	logged := journal.Read(r, last)
	found := Boots{Unread: logged.Unread}
	var present []boot.Boot
	if r.Live() {
		b, notes := runningBoot(r)
		found.Notes = notes
		if b.ID != "" {
			present = append(present, b)
		}
	}
	if last > 0 {
		recorded = recorded[max(0, len(recorded)-last):]
	}
	all := label.Boots(boot.Merge(logged.Boots, recorded, present))
	for i, b := range all {
		if len(b.Waits) == 0 { // of some boots no log tells any more
			all[i] = boot.TakeOut(b, label.Questions(b.Spans, nil))
		}
	}
	now := journal.Present(r)
	for i := range all {
		switch {
		case all[i].ID == now && now != "":
			all[i].Ending = boot.Running
		case all[i].Ending == boot.Running: // the record was made while it ran
			all[i].Ending = ""
		}
	}
	var updates []time.Time
	if len(all) > 1 {
		updates = packages.Installs(r)
	}
	all = boot.Judge(all, updates)
	if last > 0 {
		all = all[max(0, len(all)-last):]
	}
	found.Boots = all
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
	for _, u := range users {
		if info, err := r.Stat(userBus(u)); err != nil || info.Kind != machine.Socket {
			continue
		}
		um, err := manager.ConnectUser(u.Name, u.UID, u.GID)
		if err != nil {
			notes = append(notes,
				"what runs for "+u.Name+" was not asked for: "+err.Error()+"; root can")
			continue
		}
		spans, err := um.Spans(t.Origin, manager.Question{
			Use:  true,
			FIFO: fifo || manager.HomeFIFOs(r, u.Home),
		})
		if err == nil {
			b.Spans = append(b.Spans, spans...)
		}
		um.Close()
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

func userBus(u account.User) string { return fmt.Sprintf("/run/user/%d/bus", u.UID) }
