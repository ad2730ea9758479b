package journal

import (
	"bytes"
	"cmp"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/item"
	"calmdawn/internal/linux/account"
	"calmdawn/internal/linux/journal/layout"
	"calmdawn/internal/machine"
)

// Folder is where a machine keeps its log; volatile is where one that keeps
// none has that of the present boot.
const (
	Folder   = "/var/log/journal"
	volatile = "/run/log/journal"
)

// SimulatedField marks the entries of boots that a simulator wrote.
const SimulatedField = "CALMDAWN_SIMULATED"

// Boots are what the log of a machine remembers.
type Boots struct {
	Boots  []boot.Boot // oldest first; nothing is said yet of whether they can be compared
	Unread []item.Unread
	Files  int   // log files that were read
	Bytes  int64 // that were read of them
	Size   int64 // that they hold
}

// Read returns the boots that the machine's log remembers, at most the last; 0
// means all. It reads the files of the folder with the machine's id; where
// there is none, of every folder. It holds a few megabytes, however large the
// log.
func Read(r *machine.Root, last int) Boots {
	var found Boots
	c := collector{boots: map[ID]*record{}, users: map[string]string{}}
	if users, err := account.Read(r); err == nil {
		for _, u := range users {
			c.users[strconv.Itoa(u.UID)] = u.Name
		}
	}
	var sources []source
	unread := func(p, reason string) {
		found.Unread = append(found.Unread, item.Unread{Path: p, Reason: reason})
	}
	for _, p := range logFiles(r, &found) {
		file, err := r.OpenFile(p)
		if err != nil {
			unread(p, machine.Reason(err))
			continue
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			unread(p, machine.Reason(err))
			continue
		}
		f, err := NewFile(file, info.Size())
		if err != nil {
			unread(p, err.Error())
			continue
		}
		found.Files++
		found.Size += info.Size()
		sources = append(sources, source{f, p, isSystem(p), nil})
	}
	if file, kept := storage(r); len(sources) == 0 && (kept == "volatile" || kept == "none") {
		unread(file, "sets Storage="+kept+", so that the machine keeps no log of its boots")
	}
	machine.EachBy(maxReaders, len(sources), func(i int) {
		if s := &sources[i]; s.system {
			s.damage = c.listBoots(s.file)
			s.file.Forget()
		}
	})
	c.keep(last)
	machine.EachBy(maxReaders, len(sources), func(i int) {
		s := &sources[i]
		if s.damage == nil {
			s.damage = c.readMessages(s.file, s.system)
		}
		if s.damage != nil {
			c.salvage(s.file, s.system)
		}
		s.file.Forget()
	})
	for _, s := range sources {
		if s.damage != nil {
			unread(s.path, "what is intact was read; "+s.damage.Error())
		}
		found.Bytes += s.file.BytesRead()
	}
	c.keep(last)
	found.Boots = c.finish()
	return found
}

type source struct {
	file   *File
	path   string
	system bool // the machine's own, not a user's
	damage error
}

func isSystem(p string) bool { return strings.HasPrefix(path.Base(p), "system") }

// storage is where the log is to be kept by the machine's configuration, and
// the file that says so, journald.conf(5); empty where none does.
func storage(r *machine.Root) (file, kept string) {
	const name, most = "systemd/journald.conf", 1 << 20
	all := map[string]string{} // drop-ins by their names: /etc hides others
	for _, top := range []string{"/usr/lib/", "/usr/local/lib/", "/etc/"} {
		entries, _ := r.ReadDir(top + name + ".d")
		for _, e := range entries {
			if strings.HasSuffix(e.Name, ".conf") {
				all[e.Name] = path.Join(top+name+".d", e.Name)
			}
		}
	}
	files := []string{"/etc/" + name}
	for _, e := range slices.Sorted(maps.Keys(all)) {
		files = append(files, all[e])
	}
	for _, p := range files {
		text, _ := r.ReadFile(p, most)
		for line := range strings.Lines(string(text)) {
			key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
			if ok && strings.TrimSpace(key) == "Storage" {
				file, kept = p, strings.ToLower(strings.TrimSpace(value))
			}
		}
	}
	return file, kept
}

// logFiles lists the log files of the machine and of its users. On the running
// machine those in memory count too.
func logFiles(r *machine.Root, found *Boots) []string {
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
				isLog := strings.HasSuffix(e.Name, ".journal") ||
					strings.HasSuffix(e.Name, ".journal~")
				if isLog && (isSystem(e.Name) || strings.HasPrefix(e.Name, "user-")) {
					files = append(files, path.Join(folder, e.Name))
				}
			}
		}
	}
	return files
}

// ownFolders is the folder with the machine's id; where there is none, every
// folder.
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
		found.Unread = append(found.Unread, machine.Unread(folder, err))
	}
	return entries
}

// A collector takes in what files say, several at a time.
type collector struct {
	mu    sync.Mutex // of boots; each record has one of its own
	boots map[ID]*record
	users map[string]string // names by user id
}

// listBoots finds the boots of a file by the values of one field.
func (c *collector) listBoots(f *File) error {
	listed := false
	for data, err := range f.Values("_BOOT_ID") {
		if err != nil {
			return err
		}
		if !listed { // what the one table lists the other has to find
			listed = true
			if err := f.confirm(data); err != nil {
				return err
			}
		}
		n, told := 0, false
		var r *record
		for e, err := range f.EntriesWith(data) {
			if err != nil {
				return err
			}
			if n == 0 {
				r, told = c.note(f, e)
			}
			if n++; told || n > kernelTalk || e.Boot != r.id || c.introduce(r, f, e) {
				break
			}
		}
		if e, ok, err := f.Last(data); err != nil {
			return err
		} else if ok {
			c.note(f, e)
		}
	}
	if !listed && f.entries() > 0 {
		return &Damage{int64(layout.AtFieldTable), "its tables name no boot, though it has entries"}
	}
	return nil
}

// note remembers the first and the last entry of a boot. told is whether its
// kernel has said by then all that is asked of it, or never will.
func (c *collector) note(f *File, e Entry) (r *record, told bool) {
	c.mu.Lock()
	r, ok := c.boots[e.Boot]
	if !ok {
		r = &record{
			id:       e.Boot,
			sequence: f.SequenceID(),
			first:    e,
			last:     e,
			index:    map[boot.Key]int{},
		}
		c.boots[e.Boot] = r
	}
	c.mu.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Monotonic < r.first.Monotonic {
		r.first, r.sequence = e, f.SequenceID()
	}
	if e.Monotonic > r.last.Monotonic {
		r.last = e
	}
	return r, r.kernel != "" && r.memory > 0 && r.processors > 0 ||
		e.Seqnum >= r.first.Seqnum+kernelTalk
}

// keep forgets all but the last boots.
func (c *collector) keep(last int) {
	if last == 0 || len(c.boots) <= last {
		return
	}
	inOrder := c.inOrder()
	for _, r := range inOrder[:len(inOrder)-last] {
		delete(c.boots, r.id)
	}
}

// inOrder returns the records, oldest first: by their clocks, and those of one
// sequence of the log, whose numbers no wrong clock disturbs, by these.
func (c *collector) inOrder() []*record {
	all := slices.SortedFunc(maps.Values(c.boots), func(a, b *record) int {
		return cmp.Or(cmp.Compare(a.last.Realtime, b.last.Realtime),
			slices.Compare(a.id[:], b.id[:]))
	})
	places := map[ID][]int{}
	for i, r := range all {
		places[r.sequence] = append(places[r.sequence], i)
	}
	sorted := slices.Clone(all)
	for _, at := range places {
		var own []*record
		for _, i := range at {
			own = append(own, all[i])
		}
		slices.SortStableFunc(own, func(a, b *record) int {
			return cmp.Compare(a.first.Seqnum, b.first.Seqnum)
		})
		for n, i := range at {
			sorted[i] = own[n]
		}
	}
	return sorted
}

// readMessages reads the messages of one file that tell of the boots that are
// kept.
func (c *collector) readMessages(f *File, system bool) error {
	kinds := slices.Clone(ofUnits)
	if system {
		kinds = append(append(kinds, ofMachine...), SimulatedField+"=1")
	}
	c.mu.Lock()
	boots := maps.Clone(c.boots) // what salvages another file adds to it
	c.mu.Unlock()
	for _, kind := range kinds {
		data, ok, err := f.Find(kind)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		for e, err := range f.EntriesWith(data) {
			if err != nil {
				return err
			}
			if r, kept := boots[e.Boot]; kept {
				if kind == SimulatedField+"=1" {
					r.mu.Lock()
					r.simulated = true
					r.mu.Unlock()
					continue
				}
				if err := c.take(r, f, kind, e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// salvage reads what is whole of a damaged file, entry by entry.
func (c *collector) salvage(f *File, system bool) {
	for e := range f.Salvage() {
		c.mu.Lock()
		r, known := c.boots[e.Boot]
		full := len(c.boots) >= maxBoots
		c.mu.Unlock()
		if !known && (!system || full) {
			continue
		}
		kind := ""
		for field, err := range f.Fields(e) {
			if err == nil &&
				(bytes.HasPrefix(field, []byte("MESSAGE_ID=")) || string(field) == cryptSetup ||
					string(field) == busDaemon) {
				kind = string(field)
			}
		}
		if system {
			if r, known = c.note(f, e); !known {
				c.introduce(r, f, e)
			}
		}
		if slices.Contains(ofUnits, kind) || slices.Contains(ofMachine, kind) {
			_ = c.take(r, f, kind, e) // a field that is damaged is passed over
		}
	}
}

// finish turns the records into boots.
func (c *collector) finish() []boot.Boot {
	inOrder := c.inOrder()
	boots := make([]boot.Boot, len(inOrder))
	machine.EachLarge(len(boots), func(i int) { boots[i] = inOrder[i].boot() })
	return boots
}

// maxBoots bounds what is believed of a damaged file.
const maxBoots = 5000

// Present is the id of the boot that the running machine is in.
func Present(r *machine.Root) string {
	if !r.Live() {
		return ""
	}
	text, err := r.ReadFile("/proc/sys/kernel/random/boot_id", 64)
	if err != nil {
		return ""
	}
	return strings.ReplaceAll(strings.TrimSpace(string(text)), "-", "")
}

// clock is by how much an entry's clock of the day is ahead of the boot's.
func (e Entry) clock() time.Duration {
	return time.Duration(
		e.Realtime-e.Monotonic,
	) * time.Microsecond
}
