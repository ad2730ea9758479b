package journal

import (
	"bytes"
	"cmp"
	"errors"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
)

// Folder is where a machine keeps its log; volatile is where one that keeps none has that of the present boot.
const (
	Folder   = "/var/log/journal"
	volatile = "/run/log/journal"
)

// SimulatedField marks the entries of boots that a simulator wrote.
const SimulatedField = "CALMDAWN_SIMULATED"

// The kinds of message that tell of a boot, as MESSAGE_ID fields.
const (
	msgStarting  = "MESSAGE_ID=7d4958e842da4a758f6c1cdc7b36dcc5"
	msgStarted   = "MESSAGE_ID=39f53479d3a045ac8e11786248231fbf"
	msgFailed    = "MESSAGE_ID=be02cf6855d2428ba40df7e9d022f03d"
	msgReady     = "MESSAGE_ID=b07a249cd024414a82dd00cd181378ff"
	msgUserReady = "MESSAGE_ID=eed00a68ffd84e31882105fd973abdd1"
	msgResources = "MESSAGE_ID=ae8f7b866b0347b9af31fe1c80b127c0"
)

// Boots are what the log of a machine remembers.
type Boots struct {
	Boots  []boot.Boot // oldest first
	Unread []item.Unread
	Files  int   // log files that were read
	Bytes  int64 // that were read of them
	Size   int64 // that they hold
}

// Read returns the boots that the machine's log remembers, at most the last; 0 means all. It reads the system's files of
// the folder with the machine's id; where there is none, of every folder.
func Read(r *machine.Root, last int) Boots {
	var found Boots
	c := collector{boots: map[ID]*record{}}
	var sources []source
	for _, p := range systemFiles(r, &found) {
		file, err := r.OpenFile(p)
		if err != nil {
			found.Unread = append(found.Unread, item.Unread{Path: p, Reason: machine.Reason(err)})
			continue
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			found.Unread = append(found.Unread, item.Unread{Path: p, Reason: machine.Reason(err)})
			continue
		}
		f, err := NewFile(file, info.Size())
		if err != nil {
			found.Unread = append(found.Unread, item.Unread{Path: p, Reason: err.Error()})
			continue
		}
		s := source{f, p}
		sources = append(sources, s)
		found.Files++
		found.Size += info.Size()
		if err := c.listBoots(f); err != nil {
			found.Unread = append(found.Unread, item.Unread{Path: p, Reason: err.Error()})
		}
	}
	c.keep(last)
	for _, s := range sources {
		if err := c.readMessages(s.file); err != nil {
			found.Unread = append(found.Unread, item.Unread{Path: s.path, Reason: "what is intact was read; " + err.Error()})
		}
		found.Bytes += s.file.BytesRead()
	}
	found.Boots = c.finish()
	return found
}

type source struct {
	file *File
	path string
}

// systemFiles lists the log files of the machine itself, not those of its users. On the running machine those in memory count too.
func systemFiles(r *machine.Root, found *Boots) []string {
	text, _ := r.ReadFile("/etc/machine-id", 4096)
	id := strings.TrimSpace(string(text))
	tops := []string{Folder}
	if r.Live() {
		tops = append(tops, volatile)
	}
	var files []string
	for _, top := range tops {
		for _, folder := range ownFolders(r, top, id, found) {
			for _, e := range list(r, folder, found) {
				isLog := strings.HasSuffix(e.Name, ".journal") || strings.HasSuffix(e.Name, ".journal~")
				if strings.HasPrefix(e.Name, "system") && isLog {
					files = append(files, path.Join(folder, e.Name))
				}
			}
		}
	}
	return files
}

// ownFolders is the folder with the machine's id; where there is none, every folder.
func ownFolders(r *machine.Root, top, id string, found *Boots) []string {
	own := path.Join(top, id)
	if info, err := r.Stat(own); id != "" && err == nil && info.Kind == machine.Folder {
		return []string{own}
	}
	var folders []string
	for _, e := range list(r, top, found) {
		if e.Kind == machine.Folder {
			folders = append(folders, path.Join(top, e.Name))
		}
	}
	return folders
}

func list(r *machine.Root, folder string, found *Boots) []machine.Entry {
	entries, err := r.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		found.Unread = append(found.Unread, item.Unread{Path: folder, Reason: machine.Reason(err)})
	}
	return entries
}

// A record collects what the files say of one boot.
type record struct {
	id        ID
	first     Entry // the earliest entry
	simulated bool
	spans     map[string]*boot.Span // begin and end still by the boot's clock
	ready     *finish
}

// A finish is the message with which the service manager ends the start-up.
type finish struct {
	at     time.Duration // by the boot's clock
	phases []boot.Phase
}

type collector struct {
	boots map[ID]*record
}

// listBoots finds the boots of a file by the values of one field.
func (c *collector) listBoots(f *File) error {
	for data, err := range f.Values("_BOOT_ID") {
		if err != nil {
			return err
		}
		for e, err := range f.EntriesWith(data) {
			if err != nil {
				return err
			}
			old, ok := c.boots[e.Boot]
			if !ok {
				c.boots[e.Boot] = &record{id: e.Boot, first: e, spans: map[string]*boot.Span{}}
			} else if e.Monotonic < old.first.Monotonic {
				old.first = e
			}
			break // the first entry is enough
		}
	}
	return nil
}

// keep forgets all but the last boots.
func (c *collector) keep(last int) {
	if last == 0 || len(c.boots) <= last {
		return
	}
	byTime := slices.SortedFunc(maps.Values(c.boots), func(a, b *record) int { return cmp.Compare(a.first.Realtime, b.first.Realtime) })
	for _, r := range byTime[:len(byTime)-last] {
		delete(c.boots, r.id)
	}
}

// readMessages reads the messages of one file that tell of the boots that are kept.
func (c *collector) readMessages(f *File) error {
	var wrong error
	for _, kind := range []string{msgStarting, msgStarted, msgFailed, msgReady, msgUserReady, msgResources, SimulatedField + "=1"} {
		data, ok, err := f.Find(kind)
		wrong = errors.Join(wrong, err)
		if err != nil || !ok {
			continue
		}
		for e, err := range f.EntriesWith(data) {
			if err != nil {
				wrong = errors.Join(wrong, err)
				break
			}
			if r, kept := c.boots[e.Boot]; kept {
				wrong = errors.Join(wrong, r.take(f, kind, e))
			}
		}
	}
	return firstOf(wrong)
}

// firstOf keeps one of many errors: a damaged file has a line, not a page.
func firstOf(err error) error {
	if many, ok := err.(interface{ Unwrap() []error }); ok && len(many.Unwrap()) > 0 {
		return firstOf(many.Unwrap()[0])
	}
	return err
}

// wanted are the fields that are looked at.
var wanted = []string{"UNIT", "_PID", "MESSAGE", "KERNEL_USEC", "INITRD_USEC", "USERSPACE_USEC", "CPU_USAGE_NSEC", "JOB_TYPE",
	"_SOURCE_MONOTONIC_TIMESTAMP", "_SOURCE_REALTIME_TIMESTAMP", "INVOCATION_ID"}

func (r *record) take(f *File, kind string, e Entry) error {
	if kind == SimulatedField+"=1" {
		r.simulated = true
		return nil
	}
	fields := map[string]string{}
	for field, err := range f.Fields(e) {
		if err != nil {
			return err
		}
		name, value, _ := bytes.Cut(field, []byte("="))
		if slices.Contains(wanted, string(name)) && len(value) < 4096 {
			fields[string(name)] = string(value)
		}
	}
	if fields["_PID"] != "1" {
		return nil // only the system's own service manager is believed
	}
	at := moment(e, fields)
	unit := fields["UNIT"]
	if kind != msgReady && kind != msgUserReady && unit == "" {
		return nil
	}
	if invocation, told := fields["INVOCATION_ID"]; told && invocation == "" && kind == msgStarted {
		return nil // it was skipped, for a condition; that is logged like a start, of no invocation
	}
	switch kind {
	case msgStarting:
		if s := r.span(unit); !s.Begin.Known && (!s.End.Known || at <= s.End.Value) { // restarted later: the first start counts
			s.Begin = boot.Of(at)
		}
	case msgStarted, msgFailed:
		if s := r.span(unit); !s.End.Known && (!s.Begin.Known || at >= s.Begin.Value) {
			s.End, s.Failed = boot.Of(at), kind == msgFailed
		}
	case msgResources:
		if n, err := strconv.ParseInt(fields["CPU_USAGE_NSEC"], 10, 64); err == nil && r.spans[unit] != nil && !r.spans[unit].CPU.Known {
			r.spans[unit].CPU = boot.Of(time.Duration(n))
		}
	case msgReady, msgUserReady:
		if r.ready == nil {
			r.ready = &finish{at, phasesOf(fields)}
		}
	}
	return nil
}

// span returns the span of a unit, which may still be empty.
func (r *record) span(unit string) *boot.Span {
	s, ok := r.spans[unit]
	if !ok {
		s = &boot.Span{Native: unit}
		r.spans[unit] = s
	}
	return s
}

// moment is when an entry was written, on the boot's clock. The sender's own clock is up to milliseconds better than the
// log's, where it is there and plausible.
func moment(e Entry, fields map[string]string) time.Duration {
	const micro = time.Microsecond
	if own, err := strconv.ParseUint(fields["_SOURCE_MONOTONIC_TIMESTAMP"], 10, 62); err == nil && own <= e.Monotonic {
		return time.Duration(own) * micro
	}
	own, err := strconv.ParseUint(fields["_SOURCE_REALTIME_TIMESTAMP"], 10, 62)
	late := e.Realtime - own
	if err == nil && own <= e.Realtime && late < uint64(time.Second/micro) && late <= e.Monotonic {
		return time.Duration(e.Monotonic-late) * micro
	}
	return time.Duration(e.Monotonic) * micro
}

// phasesOf reads the phases of the message that ends the start-up: from its fields, and firmware and loader, which have
// none, from its text.
func phasesOf(fields map[string]string) []boot.Phase {
	took := map[string]time.Duration{}
	for _, m := range phaseText.FindAllStringSubmatch(fields["MESSAGE"], -1) {
		if d, ok := parseSpan(m[1]); ok && (m[2] == "firmware" || m[2] == "loader") {
			took[m[2]] = d
		}
	}
	for _, name := range []string{"kernel", "initrd", "userspace"} {
		n, err := strconv.ParseUint(fields[strings.ToUpper(name)+"_USEC"], 10, 62)
		if err == nil && (n > 0 || name == "userspace") {
			took[name] = time.Duration(n) * time.Microsecond
		}
	}
	var phases []boot.Phase
	for _, name := range boot.PhaseNames {
		if d, ok := took[name]; ok {
			phases = append(phases, boot.Phase{Name: name, Took: d})
		}
	}
	return phases
}

var (
	phaseText = regexp.MustCompile(`([0-9][0-9a-z. ]*) \((firmware|loader|kernel|initrd|userspace)\)`)
	spanPart  = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?)(h|min|s|ms|us)$`)
)

// parseSpan reads a time span as the service manager writes it: "1min 2.345s".
func parseSpan(s string) (time.Duration, bool) {
	units := map[string]time.Duration{"h": time.Hour, "min": time.Minute, "s": time.Second, "ms": time.Millisecond, "us": time.Microsecond}
	var sum time.Duration
	for word := range strings.FieldsSeq(s) {
		m := spanPart.FindStringSubmatch(word)
		if m == nil {
			return 0, false
		}
		n, err := strconv.ParseFloat(m[1], 64)
		if err != nil {
			return 0, false
		}
		sum += time.Duration(n * float64(units[m[2]]))
	}
	return sum, true
}

// goals are the targets that a boot can aim at, the last of them first.
var goals = []string{"graphical.target", "multi-user.target"}

func (c *collector) finish() []boot.Boot {
	var boots []boot.Boot
	for _, r := range c.boots {
		boots = append(boots, r.boot())
	}
	slices.SortFunc(boots, func(a, b boot.Boot) int { return cmp.Or(a.Began.Compare(b.Began), cmp.Compare(a.ID, b.ID)) })
	return boots
}

// boot puts the record together: everything counts from the moment the kernel began, which the end of the start-up gives
// away by its phases.
func (r *record) boot() boot.Boot {
	b := boot.Boot{ID: r.id.String(), Simulated: r.simulated}
	origin := time.Duration(0)
	if r.ready != nil {
		b.Phases = r.ready.phases
		var sum time.Duration
		for _, name := range []string{"kernel", "initrd", "userspace"} {
			sum += b.Phase(name).Value
		}
		if !b.Phase("kernel").Known { // a container: its clock is that of the computer around it
			origin = max(0, r.ready.at-sum)
		}
		b.Ready = boot.Of(r.ready.at - origin)
	} else {
		b.Odd = append(b.Odd, "it never became ready, as far as the log tells")
		if first := time.Duration(r.first.Monotonic) * time.Microsecond; first > 10*time.Minute {
			origin = first
		}
	}
	began := time.UnixMicro(int64(r.first.Realtime)).Add(-time.Duration(r.first.Monotonic)*time.Microsecond + origin)
	b.Began = began.UTC()
	for _, s := range r.spans {
		for _, f := range []*boot.Figure{&s.Begin, &s.End} {
			if f.Known {
				f.Value -= origin
			}
		}
		b.Spans = append(b.Spans, *s)
	}
	slices.SortFunc(b.Spans, func(x, y boot.Span) int {
		return cmp.Or(cmp.Compare(x.First(), y.First()), cmp.Compare(x.Native, y.Native))
	})
	for _, goal := range goals {
		if s, ok := b.Span(goal); ok && s.End.Known && b.Ready.Known && s.End.Value <= b.Ready.Value {
			b.Goal, b.Ready = goal, s.End
			break
		}
	}
	return b
}
