package boots

import (
	"encoding/xml"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/registry"
)

// Traces is the folder of what logins launched, below the system's own.
const Traces = "System32/WDI/LogFiles/StartupInfo"

// A trace is what the first minute or two of one login launched.
type trace struct {
	Processes []process `xml:"Process"`

	user    *registry.User
	written time.Time // the file
}

// first is when the first of its processes began, as the trace has it; the zero
// time where none tells.
func (t trace) first() (first time.Time) {
	for _, p := range t.Processes {
		if at, ok := instant(p.Start); ok && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first
}

type process struct {
	Name   string `xml:"Name,attr"`
	PID    string `xml:"PID,attr"`
	Start  string `xml:"StartTime"`
	Line   string `xml:"CommandLine"`
	Disk   string `xml:"DiskUsage"` // bytes
	CPU    string `xml:"CpuUsage"`  // microseconds
	Parent string `xml:"ParentPID"`
}

const (
	mostTraces    = 200
	mostProcesses = 2000
)

// traces gives boots the programs of their logins.
func (r *reader) traces() {
	dir, err := r.reg.Find(path.Join(r.reg.Windows, Traces))
	if err != nil {
		return
	}
	entries, err := r.reg.Root.ReadDir(dir)
	if err != nil {
		r.found.Unread = append(r.found.Unread,
			machine.Unread(dir, err))
		return
	}
	var all []trace
	for _, e := range entries[:min(mostTraces, len(entries))] {
		sid, rest, ok := strings.Cut(e.Name, "_StartupInfo")
		if !ok || !strings.EqualFold(path.Ext(rest), ".xml") {
			continue
		}
		i := slices.IndexFunc(r.reg.Users, func(u *registry.User) bool {
			return strings.EqualFold(u.SID, sid)
		})
		if i < 0 {
			continue
		}
		const most = 4 << 20
		p := path.Join(dir, e.Name)
		raw, err := r.reg.Root.ReadFile(p, most)
		var t trace
		if err == nil {
			dec := xml.NewDecoder(strings.NewReader(registry.Text(raw)))
			dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
			err = dec.Decode(&t)
		}
		if err != nil {
			r.found.Unread = append(r.found.Unread, item.Unread{
				Path: p, Reason: "is not a readable trace of a login",
			})
			continue
		}
		t.user = r.reg.Users[i]
		if info, err := r.reg.Root.Stat(p); err == nil {
			t.written = info.ModTime
		}
		all = append(all, t)
	}
	ahead := r.ahead(all, dir)
	for _, t := range all {
		r.programs(t, ahead)
	}
}

// ahead is by how much the times in traces are ahead of UTC. No document says
// whether they are in UTC or in the machine's own zone. So the disk decides: by
// the logins in its log, and by when the files were written.
func (r *reader) ahead(all []trace, dir string) time.Duration {
	zone := r.reg.Machine(`SYSTEM\CurrentControlSet\Control\TimeZoneInformation`)
	bias, ok := r.reg.Number(zone, "ActiveTimeBias") // minutes that UTC is ahead
	local := -time.Duration(int32(bias)) * time.Minute
	if !ok || local == 0 || len(all) == 0 {
		return 0
	}
	asUTC, asLocal := 0, 0
	for _, t := range all {
		if first := t.first(); !first.IsZero() {
			asUTC += r.fits(t, first)
			asLocal += r.fits(t, first.Add(-local))
		}
	}
	switch {
	case asLocal > asUTC:
		return local
	case asUTC == 0:
		r.found.Unread = append(r.found.Unread, item.Unread{
			Path: dir, Reason: "has times that fit no login, in UTC or in the machine's zone; " +
				"they are taken to be in UTC",
		})
	}
	return 0
}

// fits is by how many signs a trace began at an instant. Those are a login of
// its user about then, and a file that was written soon after.
func (r *reader) fits(t trace, at time.Time) (n int) {
	const early, late = 2 * time.Minute, 10 * time.Minute
	near := func(from, to time.Time) bool {
		since := to.Sub(from)
		return since >= -early && since <= late
	}
	for i, b := range r.boots {
		for _, l := range b.Logins {
			if l.User == t.user.Name && near(b.Began.Add(l.Began+r.waits[i]), at) {
				n = 1
			}
		}
	}
	if near(at, t.written) {
		n++
	}
	return n
}

// programs adds those of one trace, whose times are ahead of UTC by so much, to
// the boot of its login.
func (r *reader) programs(t trace, ahead time.Duration) {
	u := t.user
	i := r.during(t.first().Add(-ahead))
	if i < 0 || len(r.boots[i].Programs) > 0 {
		return
	}
	b := &r.boots[i]
	finder := launch.Finder{Reg: r.reg}
	at := map[int]int{} // places in the list by process
	for _, p := range t.Processes[:min(mostProcesses, len(t.Processes))] {
		began, ok := instant(p.Start)
		pid, err := strconv.Atoi(p.PID)
		if !ok || err != nil {
			continue
		}
		cpu, _ := strconv.ParseInt(strings.TrimSpace(p.CPU), 10, 64)
		read, _ := strconv.ParseInt(strings.TrimSpace(p.Disk), 10, 64)
		one := boot.Program{
			Name:   p.Name,
			Owner:  u.Name,
			PID:    pid,
			Parent: -1,
			Began:  max(0, began.Add(-ahead).Sub(b.Began)-r.waits[i]),
			CPU:    time.Duration(max(0, cpu)) * time.Microsecond,
			Read:   max(0, read),
		}
		target := finder.Find(launch.Line{Text: p.Line, User: u})
		if target.Program != "" {
			one.Name, one.Words = path.Base(target.Program), []string{target.Program}
		}
		if parent, err := strconv.Atoi(strings.TrimSpace(p.Parent)); err == nil {
			if k, ok := at[parent]; ok {
				one.Parent = k
			}
		}
		at[pid] = len(b.Programs)
		b.Programs = append(b.Programs, one)
	}
}

// during finds the boot in which an instant lies that is soon after its login;
// -1 for none.
func (r *reader) during(at time.Time) int {
	const soon = 30 * time.Minute
	best := -1
	for i, began := range r.starts {
		since := at.Sub(began) - r.waits[i]
		if since >= 0 && since <= soon && (best < 0 || began.After(r.starts[best])) {
			best = i
		}
	}
	return best
}

// instant reads a moment in one of the forms that traces have.
func instant(text string) (time.Time, bool) {
	for _, form := range []string{
		"2006/01/02:15:04:05.999999999", "2006-01-02 15:04:05.999999999", time.RFC3339Nano,
	} {
		if at, err := time.Parse(form, strings.TrimSpace(text)); err == nil {
			return at.UTC(), true
		}
	}
	return time.Time{}, false
}
