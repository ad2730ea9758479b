package registry

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
)

// Scheme begins the addresses of values: "registry:HKLM\SOFTWARE\…\\NAME",
// "registry:HKU\SID\…\\NAME", and "registry:HKU\SID_Classes\…\\NAME" of what is
// registered for one user. Addresses are logical: they name no file. In the
// name of a value "%" and control characters stand as % with four digits.
const Scheme = "registry"

// A Store edits values of the registry of a machine's disk, as a
// [machine.Store], each with one commit of its hive. It may be called by
// several goroutines.
type Store struct {
	root   *machine.Root
	frozen func(*machine.Root) string

	mu     sync.Mutex
	files  map[string]string // of hives, by how addresses begin, in upper case
	open   map[string]*opened
	last   string // of them
	asked  bool
	barred string            // why nothing is written, once that was asked
	set    string            // the control set of the next boot
	minds  map[string]string // as of [Registry.Returning]
}

// An opened hive is one as it was last read, or written by us. Its file is open
// only while a method of the store runs.
type opened struct {
	*hive.Editor
	root    *machine.Root
	path    string
	reader  *os.File
	file    *machine.InPlace // while it is written
	size    int64
	written time.Time
	// behind is what the file is to become before anything is written; nil of a
	// whole one
	behind *hive.Recovery
	// keeps has the sectors that are kept, or were not there, of a file that
	// was recovered; nil of others
	keeps map[int64]bool
	was   int64 // how long that was before
}

// NewStore is for an open machine. frozen says why its disk may not be written
// to; empty where it may.
func NewStore(r *machine.Root, frozen func(*machine.Root) string) *Store {
	return &Store{root: r, frozen: frozen, open: map[string]*opened{}}
}

// Address is that of a value of a place, and false where the value has a name
// that no text stands for.
func (p Place) Address(value string) (string, bool) {
	var b strings.Builder
	for _, r := range value {
		switch {
		case r == unicode.ReplacementChar || r > 0xFFFF && unicode.IsControl(r):
			return "", false
		case r == '%' || unicode.IsControl(r):
			fmt.Fprintf(&b, "%%%04X", r)
		default:
			b.WriteRune(r)
		}
	}
	return Scheme + ":" + p.address + `\\` + b.String(), p.address != ""
}

// parse parts an address, without its scheme, into its key and the name of a
// value; false for that of a key.
func parse(address string) (key, value string, isValue bool) {
	address = strings.TrimPrefix(address, Scheme+":")
	key, rest, ok := strings.Cut(address, `\\`)
	var b strings.Builder
	for i := 0; i < len(rest); i++ {
		var r rune
		if rest[i] == '%' && i+5 <= len(rest) {
			if _, err := fmt.Sscanf(rest[i+1:i+5], "%04X", &r); err == nil {
				b.WriteRune(r)
				i += 4
				continue
			}
		}
		b.WriteByte(rest[i])
	}
	return key, b.String(), ok
}

// hiveOf returns the file of the hive in which a key is, and the names that
// lead to it there.
func (s *Store) hiveOf(key string) (file string, names []string, err error) {
	parts := strings.Split(key, `\`)
	if len(parts) < 2 {
		return "", nil, &machine.Refusal{Path: key, Reason: "is not a place in a registry"}
	}
	if s.files == nil {
		reg, err := Open(s.root)
		if err != nil {
			return "", nil, err
		}
		s.files, s.set, s.minds = reg.hives, reg.Set, reg.Returning()
		reg.Close()
	}
	file, ok := s.files[hive.Upper(parts[0]+`\`+parts[1])]
	if !ok {
		return "", nil, gone(key, key)
	}
	return file, parts[2:], nil
}

// load returns a hive as it is on the disk now. Where it cannot be written to,
// that is a *machine.Refusal.
func (s *Store) load(file string) (*opened, error) {
	info, err := s.root.Stat(file)
	if err != nil {
		return nil, err
	}
	s.last = file
	if o := s.open[file]; o != nil && o.size == info.Size && o.written.Equal(info.ModTime) {
		return o, nil
	}
	delete(s.open, file)
	o := &opened{root: s.root, path: file, size: info.Size, written: info.ModTime}
	if o.reader, err = s.root.OpenFile(file); err != nil {
		return nil, err
	}
	defer func() {
		if s.open[file] != o {
			o.close()
		}
	}()
	if info.Size > hive.MaxEdited {
		return nil, &machine.Refusal{Path: file, Reason: "is too large to be changed"}
	}
	logs, unread := logsOf(s.root, file)
	if len(unread) > 0 {
		logs = nil // what they hold is not known
	}
	o.Editor, err = hive.Edit(o, info.Size, logs...)
	if errors.Is(err, hive.ErrBehind) {
		err = o.recover(logs)
	} else if err == nil {
		err = s.spare(o)
	}
	if errors.As(err, new(*fs.PathError)) {
		return nil, err
	}
	if err != nil {
		return nil, &machine.Refusal{
			Path: file, Reason: "cannot be changed: " + cmp.Or(s.why(), err.Error()),
		}
	}
	s.open[file] = o
	return o, nil
}

// recover has a hive be read in its newest state, which its file is to get
// before anything else is written.
func (o *opened) recover(logs [][]byte) (err error) {
	if o.behind, err = hive.Recover(o, o.size, logs...); err == nil {
		o.Editor, err = hive.Edit(o.behind, o.behind.Size(), logs...)
	}
	if err != nil && !errors.As(err, new(*fs.PathError)) {
		err = fmt.Errorf("it was not written to its end, and %w: Windows has to be started once "+
			"and shut down in full", err)
	}
	return err
}

// spare has a hive that was recovered, and that nobody else wrote to since,
// keep what stands in its file. So it can be given back.
func (s *Store) spare(o *opened) error {
	e, past, err := s.kept(o, o.path)
	if err != nil || past == nil {
		return err
	}
	from, same, err := goesOn(e, past)
	if err != nil || !same {
		return err
	}
	o.Spare(from.End)
	o.keeps, o.was = map[int64]bool{}, from.Size
	_, parts, err := s.root.Keeper.Kept(e.Path)
	for at, part := range parts {
		for n := at; n < at+int64(len(part)); n += sector {
			o.keeps[n] = true
		}
	}
	return err
}

const sector = 512

// keep keeps what stands in sectors of a recovered file before they are
// written.
func (o *opened) keep(at, n int64) error {
	parts := map[int64][]byte{}
	for from := at &^ (sector - 1); from < min(at+n, o.was); from += sector {
		if o.keeps[from] {
			continue
		}
		part := make([]byte, min(sector, o.was-from))
		if _, err := o.file.ReadAt(part, from); err != nil {
			return err
		}
		parts[from] = part
	}
	if len(parts) == 0 {
		return nil
	}
	if err := o.root.Keeper.Keep(FileScheme+":"+o.path, parts); err != nil {
		return err
	}
	for from := range parts {
		o.keeps[from] = true
	}
	return nil
}

// ReadAt reads the file as it is, or is being written.
func (o *opened) ReadAt(data []byte, at int64) (int, error) {
	if o.file != nil {
		return o.file.ReadAt(data, at)
	}
	if o.reader == nil {
		f, err := o.root.OpenFile(o.path)
		if err != nil {
			return 0, err
		}
		o.reader = f
	}
	return o.reader.ReadAt(data, at)
}

func (o *opened) close() {
	if o.reader != nil {
		o.reader.Close()
		o.reader = nil
	}
}

// begin begins a method; it returns what ends it. Of one hive at most its
// blocks stay in memory.
func (s *Store) begin() (end func()) {
	s.mu.Lock()
	return func() {
		for file, o := range s.open {
			o.close()
			if file != s.last {
				o.Forget()
			}
		}
		s.mu.Unlock()
	}
}

// WriteAt writes to the file. Of one that was recovered it keeps what stood
// there.
func (o *opened) WriteAt(data []byte, at int64) (int, error) {
	if o.keeps != nil {
		if err := o.keep(at, int64(len(data))); err != nil {
			return 0, err
		}
	}
	return o.file.WriteAt(data, at)
}

func (o *opened) Sync() error              { return o.file.Sync() }
func (o *opened) Reserve(size int64) error { return o.file.Reserve(size) }

// key finds a key of an address; false where it is not there.
func (s *Store) key(key string) (*opened, hive.Key, bool, error) {
	file, names, err := s.hiveOf(key)
	if err != nil {
		return nil, hive.Key{}, false, err
	}
	o, err := s.load(file)
	if err != nil {
		return nil, hive.Key{}, false, err
	}
	k, err := o.Root().Key(names...)
	if errors.Is(err, hive.ErrNone) {
		return o, k, false, nil
	}
	return o, k, err == nil, err
}

// Node returns the value at an address.
func (s *Store) Node(address, _ string) (change.Node, error) {
	defer s.begin()()
	return s.node(address)
}

func (s *Store) node(address string) (change.Node, error) {
	key, name, _ := parse(address)
	n := change.Node{Kind: change.Absent}
	o, k, there, err := s.key(key)
	if err != nil {
		return n, err
	}
	if there {
		v, err := k.Value(name)
		switch {
		case err == nil:
			n.Kind, n.Type, n.Place = change.Value, uint32(v.Type), o.Index(k, name)+1
			if n.Data, err = v.Data(); err != nil {
				return n, err
			}
		case !errors.Is(err, hive.ErrNone):
			return n, err
		}
	}
	n.Means = means(key, n)
	return n, nil
}

// gone is the error for an address whose hive is not there.
func gone(address, key string) error {
	root, rest, _ := strings.Cut(key, `\`)
	name, _, _ := strings.Cut(rest, `\`)
	return &machine.Away{Path: address, At: root + `\` + name, Kind: machine.HiveGone}
}

// Reach returns a *machine.Away error for an edit whose hive is not there: it
// may be back, with its user's profile. It refuses an edit of a service whose
// key is gone: it was uninstalled, and a value alone would be half a service.
func (s *Store) Reach(e change.Edit) error {
	defer s.begin()()
	key, _, isValue := parse(e.Path)
	file, _, err := s.hiveOf(key)
	if err == nil {
		_, err = s.root.Stat(file)
	}
	if errors.As(err, new(*machine.Away)) || errors.Is(err, fs.ErrNotExist) {
		return gone(e.Path, key)
	}
	if !isValue || !strings.Contains(hive.Upper(key), `\SERVICES\`) {
		return nil
	}
	_, _, there, err := s.key(key)
	if err == nil && !there {
		err = &machine.Refusal{Path: e.Path, Reason: "its key is gone: the service was " +
			"uninstalled, and a value alone would be half a service"}
	}
	return err
}

// means says what a value comes to that Windows writes anew by itself: a note
// of what is off, which one bit decides.
func means(key string, n change.Node) string {
	if !strings.Contains(hive.Upper(key), `\EXPLORER\STARTUPAPPROVED\`) {
		return ""
	}
	if len(n.Data) > 0 && n.Data[0]&1 != 0 {
		return "off"
	}
	return "on"
}

// why says why nothing may be written to the disk; empty where something may.
func (s *Store) why() string {
	if !s.asked {
		s.barred, s.asked = s.frozen(s.root), true
	}
	return s.barred
}

// write opens the file of a hive, has it changed, and looks at what came of it.
func (s *Store) write(key string, do func(o *opened, k hive.Key, now time.Time) error) error {
	if why := s.why(); why != "" {
		return &machine.Refusal{Path: key, Reason: why}
	}
	o, k, there, err := s.key(key)
	if err != nil {
		return err
	}
	if !there {
		return &machine.Refusal{Path: key, Reason: "is not there"}
	}
	if o.behind != nil {
		return &machine.Refusal{Path: o.path, Reason: hive.ErrBehind.Error()}
	}
	file, _, err := s.hiveOf(key)
	if err != nil {
		return err
	}
	if o.file, err = s.root.OpenInPlace(file); err != nil {
		return err
	}
	defer func() {
		o.file.Close()
		o.file = nil
	}()
	o.close()
	delete(s.open, file) // unless all goes well
	if err := do(o, k, time.Now()); err != nil {
		return refused(file, err)
	}
	info, err := s.root.Stat(file)
	if err != nil {
		return err
	}
	if err := o.verify(info.Size); err != nil {
		return &machine.Refusal{Path: file, Reason: err.Error()}
	}
	o.size, o.written = info.Size, info.ModTime
	s.open[file] = o
	return nil
}

// refused names the file of an error that does not.
func refused(file string, err error) error {
	if fault := (*hive.Fault)(nil); errors.As(err, &fault) {
		return &machine.Refusal{Path: file, Reason: "is not changed: " + fault.What}
	}
	return err
}

// verify compares the file with what the editor says that it holds. It has the
// walker look at that once more, where it does not take long.
func (o *opened) verify(size int64) error {
	const short = 16 << 20
	holds, err := o.Holds(o.file, size)
	if err != nil {
		return err
	}
	if !holds {
		return errors.New("does not hold what was just written to it")
	}
	if size > short {
		return nil
	}
	if faults := o.Check(); len(faults) > 0 {
		return fmt.Errorf("is damaged by what was just written: %w", &faults[0])
	}
	return nil
}

// Apply makes an edit of a value.
func (s *Store) Apply(e change.Edit) error { return s.apply(e) }

func (s *Store) apply(e change.Edit) error {
	defer s.begin()()
	now, err := s.node(e.Path)
	if err != nil {
		return err
	}
	if !now.Same(e.Before) {
		return &change.Conflict{Edit: e, Now: now}
	}
	if now.Same(e.After) {
		return nil
	}
	key, name, ok := parse(e.Path)
	if !ok || e.After.Kind != change.Absent && e.After.Kind != change.Value {
		return &machine.Refusal{Path: e.Path, Reason: "cannot become what the edit says"}
	}
	err = s.write(key, func(o *opened, k hive.Key, now time.Time) error {
		if e.After.Kind == change.Absent {
			return o.Unset(k, name, now)
		}
		return o.Set(k, name, hive.Type(e.After.Type), e.After.Data,
			e.After.Place-1, now)
	})
	if err != nil {
		return err
	}
	made, err := s.node(e.Path)
	if err == nil && !made.Same(e.After) {
		err = &machine.Refusal{Path: e.Path, Reason: "does not hold what was just written to it"}
	}
	return err
}

// Mind tells of an edit of a control set that the next boot does not use, and
// of what may change things back.
func (s *Store) Mind(address string) (all []string) {
	key, _, _ := parse(address)
	defer s.begin()()
	_, names, err := s.hiveOf(key)
	inSet := strings.HasPrefix(hive.Upper(key), `HKLM\SYSTEM\CONTROLSET`)
	if err == nil && inSet && s.set != "" && !hive.Same(names[0], s.set) {
		all = append(all, "The next boot uses "+s.set+": what is edited in another set means "+
			"nothing to it.")
	}
	for begin, text := range s.minds {
		if strings.HasPrefix(key, begin) {
			all = append(all, text)
		}
	}
	slices.Sort(all)
	return all
}

// Force makes the edit whatever the value is now.
func (s *Store) Force(e change.Edit) (err error) {
	if e.Before, err = s.Node(e.Path, e.Home); err != nil {
		return err
	}
	return s.apply(e)
}

// SweepBeside has nothing to remove: what a stop leaves is inside a hive, and
// harmless.
func (s *Store) SweepBeside(change.Edit) error { return nil }

// Fixed reports whether the disk takes no edits.
func (s *Store) Fixed(change.Edit) bool {
	config, err := FindConfig(NewDisk(s.root))
	return err == nil && s.root.ReadOnly(config)
}

// Folder describes a key.
func (s *Store) Folder(address, _ string) (machine.FolderState, error) {
	defer s.begin()()
	key, _, _ := parse(address)
	_, k, there, err := s.key(key)
	if err != nil || !there {
		return machine.FolderState{}, err
	}
	values, err1 := k.Values()
	keys, err2 := k.Keys()
	written, err3 := recorded(address, k)
	return machine.FolderState{
		Exists:  true,
		Empty:   len(values) == 0 && len(keys) == 0,
		ModTime: written,
	}, errors.Join(err1, err2, err3)
}

// never stands for the time of a key that has none.
const never = math.MinInt64

// recorded is a key's time as it is kept.
func recorded(address string, k hive.Key) (int64, error) {
	switch {
	case k.Stamp == 0:
		return never, nil
	case k.Written.IsZero():
		return never, &machine.Refusal{
			Path: address, Reason: "has a time that no calendar reaches, and that could not be " +
				"given back",
		}
	}
	return k.Written.UnixNano(), machine.CheckTime(address, k.Written)
}

// given is the time that was kept.
func given(ns int64) time.Time {
	if ns == never {
		return time.Time{}
	}
	return time.Unix(0, ns)
}

// MakeFolder makes a key, with the rights of the one above it; one that is
// there is left alone.
func (s *Store) MakeFolder(address, _ string, _ uint32) error {
	above, name := splitKey(address)
	defer s.begin()()
	return s.write(above, func(o *opened, k hive.Key, now time.Time) error {
		return o.MakeKey(k, name, now)
	})
}

// RemoveFolder takes a key away, which must be empty.
func (s *Store) RemoveFolder(address, _ string) error {
	above, name := splitKey(address)
	defer s.begin()()
	return s.write(above, func(o *opened, k hive.Key, now time.Time) error {
		return o.RemoveKey(k, name, now)
	})
}

// SetFolderTime gives a key the time ns, in nanoseconds since 1970 UTC, of
// which it keeps 100.
func (s *Store) SetFolderTime(address, _ string, ns int64) error {
	key, _, _ := parse(address)
	defer s.begin()()
	_, k, there, err := s.key(key)
	if err == nil && there && k.Written.Equal(given(ns).Truncate(100*time.Nanosecond)) {
		return nil
	}
	return s.write(key, func(o *opened, k hive.Key, _ time.Time) error {
		return o.Stamp(k, given(ns))
	})
}

// splitKey parts the address of a key into the one above and its name.
func splitKey(address string) (above, name string) {
	key, _, _ := parse(address)
	i := strings.LastIndex(key, `\`)
	return key[:max(0, i)], key[i+1:]
}

// Number is a value of four bytes, as an edit has it.
func Number(n uint32) []byte { return binary.LittleEndian.AppendUint32(nil, n) }

// hiveFile notes where the hive stands that addresses begin with so.
func (reg *Registry) hiveFile(begin, dir, name string) {
	if p, err := reg.Find(path.Join(dir, name)); err == nil {
		reg.hives[hive.Upper(begin)] = p
	}
}
