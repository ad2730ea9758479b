package hive

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/ring"
)

// A paper is a file in memory that remembers what was written since it was last
// synced.
type paper struct {
	data     []byte
	room     int64 // how long it can become; 0 for any length
	watched  bool  // steps are kept
	unsynced map[int64][]byte
	steps    []step
	disk     []byte // as of the last sync
}

// A step is what was written between two syncs, onto what was there.
type step struct {
	before  []byte
	sectors map[int64][]byte // by their places
}

const sector = 512

func newPaper(data []byte) *paper {
	return &paper{
		data: slices.Clone(data), disk: slices.Clone(data), unsynced: map[int64][]byte{},
	}
}

func (p *paper) ReadAt(data []byte, at int64) (int, error) {
	return bytes.NewReader(p.data).ReadAt(data, at)
}

func (p *paper) WriteAt(data []byte, at int64) (int, error) {
	if end := at + int64(len(data)); end > int64(len(p.data)) {
		return 0, errors.New("a write beyond what was reserved")
	}
	copy(p.data[at:], data)
	for s := at / sector; s*sector < at+int64(len(data)); s++ {
		p.unsynced[s*sector] = nil
	}
	return len(data), nil
}

func (p *paper) Sync() error {
	if !p.watched {
		return nil
	}
	for at := range p.unsynced {
		p.unsynced[at] = slices.Clone(p.data[at:min(int64(len(p.data)), at+sector)])
	}
	p.steps = append(p.steps, step{p.disk, p.unsynced})
	p.disk, p.unsynced = slices.Clone(p.data), map[int64][]byte{}
	return nil
}

func (p *paper) Reserve(size int64) error {
	if p.room > 0 && size > p.room {
		return errors.New("no space left")
	}
	if more := size - int64(len(p.data)); more > 0 {
		p.data = append(p.data, make([]byte, more)...)
	}
	return nil
}

// edit opens a copy of a hive for changes.
func edit(data []byte) (*Editor, error) { return Edit(newPaper(data), int64(len(data))) }

// edited opens a hive for changes.
func edited(t testing.TB, data []byte) (*Editor, *paper) {
	t.Helper()
	p := newPaper(data)
	e, err := Edit(p, int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	return e, p
}

// content is all that a hive holds, a line a key or a value, times aside.
func content(t testing.TB, data []byte) []string {
	t.Helper()
	var all []told
	tell(t, open(t, data).Root(), "", &all)
	var lines []string
	for _, k := range sorted(all) {
		lines = append(lines, "["+k.Path+"]")
		values := slices.Clone(k.Values)
		slices.Sort(values)
		lines = append(lines, values...)
	}
	return lines
}

// whole fails unless a hive is clean and without faults.
func whole(t testing.TB, data []byte) {
	t.Helper()
	if _, err := edit(data); err != nil {
		t.Fatal(err)
	}
}

// grown is a hive with keys whose lists are of every kind, long ones too.
func grown(rng *rand.Rand, minor uint32) []byte {
	root := &write.Key{Name: "ROOT"}
	for _, kind := range []string{"", "lf", "lh", "li", "ri"} {
		n := root.At("List " + kind)
		for i := range 1 + rng.IntN(12) {
			k := n.At(fmt.Sprintf("%c key %d", "aBzß"[rng.IntN(4)], i))
			for j := range rng.IntN(5) {
				k.Set(write.Raw(fmt.Sprint("v", j), Binary, make([]byte, rng.IntN(300))))
			}
		}
		n.List = kind
	}
	long := root.At("Long")
	for i := range 2600 {
		long.Keys = append(long.Keys, &write.Key{Name: fmt.Sprintf("K%05d", i)})
	}
	if long.List = "ri"; minor < 5 {
		long.List = "lf"
	}
	return write.Hive(root, minor, `config\TEST`, at)
}

// A world is what a hive should hold: values by key and name.
type world map[string]map[string]string

// play makes n random changes of a hive and of the world beside it.
func play(t *testing.T, rng *rand.Rand, e *Editor, w world, n int) {
	names := []string{"Start", "start", "Größe", "日本", "", "a\\b", "ÿ", "µ", "ı", "x y"}
	for i := range n {
		path := slices.Sorted(maps.Keys(w))[rng.IntN(len(w))]
		k := e.Root()
		if path != "" {
			var err error
			if k, err = e.Root().Key(strings.Split(path, `\`)...); err != nil {
				t.Fatalf("%s: %v", path, err)
			}
		}
		name := names[rng.IntN(len(names))]
		kept := Upper(name)
		when := at.Add(time.Duration(i) * time.Second)
		var err error
		switch rng.IntN(6) {
		case 0, 1, 2:
			sizes := []int{0, 3, 4, 5, 12, 12, 100, 700, 5000, segment, segment + 1, 40000}
			data := make([]byte, sizes[rng.IntN(len(sizes))])
			for j := range data {
				data[j] = byte(rng.Uint32())
			}
			kind := Type(rng.IntN(3))
			err = e.Set(k, name, kind, data, rng.IntN(4)-1, when)
			w[path][kept] = fmt.Sprintf("%d %x", kind, data)
		case 3:
			if err = e.Unset(k, name, when); errors.Is(err, ErrNone) && w[path][kept] == "" {
				err = nil
			}
			delete(w[path], kept)
		case 4:
			below := strings.TrimPrefix(path+`\`+fmt.Sprintf("%c%d", "aZ_é"[rng.IntN(4)],
				rng.IntN(40)), `\`)
			err = e.MakeKey(k, below[strings.LastIndex(below, `\`)+1:], when)
			if fault := (*Fault)(nil); errors.As(err, &fault) { // across two sectors
				again, wrong := Edit(e.file, headSize+e.size)
				if wrong != nil {
					t.Fatal(wrong)
				}
				*e, err = *again, nil
			} else if w[below] == nil {
				w[below] = map[string]string{}
			}
		case 5:
			inside := func(other string) bool { return strings.HasPrefix(other, path+`\`) }
			if path == "" || len(w[path]) > 0 ||
				slices.ContainsFunc(slices.Collect(maps.Keys(w)), inside) {
				continue
			}
			above, last := e.Root(), path
			if i := strings.LastIndex(path, `\`); i >= 0 {
				above, err = e.Root().Key(strings.Split(path[:i], `\`)...)
				last = path[i+1:]
			}
			if err == nil {
				err = e.RemoveKey(above, last, when)
			}
			if delete(w, path); errors.As(err, new(*Fault)) {
				again, wrong := Edit(e.file, headSize+e.size)
				if wrong != nil {
					t.Fatal(wrong)
				}
				*e, err = *again, nil
				w[path] = map[string]string{}
			}
		}
		if err != nil {
			t.Fatalf("change %d of %s %q: %v", i, path, name, err)
		}
	}
}

// worldOf is what a hive holds.
func worldOf(t testing.TB, e *Editor) world {
	t.Helper()
	w := world{}
	var walk func(k Key, path string)
	walk = func(k Key, path string) {
		w[path] = map[string]string{}
		values, err := k.Values()
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range values {
			data, err := v.Data()
			if err != nil {
				t.Fatal(err)
			}
			w[path][Upper(v.Name)] = fmt.Sprintf("%d %x", v.Type, data)
		}
		keys, err := k.Keys()
		if err != nil {
			t.Fatal(err)
		}
		for _, sub := range keys {
			walk(sub, strings.TrimPrefix(path+`\`+sub.Name, `\`))
		}
	}
	walk(e.Root(), "")
	return w
}

func rounds(n uint64) uint64 {
	if asked, err := strconv.ParseUint(os.Getenv("CALMDAWN_ROUNDS"), 10, 32); err == nil {
		return asked
	}
	return n
}

// TestRandomChanges makes thousands of changes in hives of each version. It
// holds what our reader, the walker and a foreign reader find against what
// should be there.
func TestRandomChanges(t *testing.T) {
	for seed := range rounds(ring.Pick[uint64](2, 4, 4)) {
		rng := rand.New(rand.NewPCG(seed, 27))
		minor := uint32(3 + seed%4)
		e, p := edited(t, grown(rng, minor))
		w := worldOf(t, e)
		before := len(p.data)
		for range 6 {
			play(t, rng, e, w, 100)
			whole(t, p.data)
			again, err := edit(p.data)
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			if found := worldOf(t, again); !maps.EqualFunc(found, w, maps.Equal) {
				t.Fatalf("seed %d: the hive holds something else than was written", seed)
			}
			if !slices.EqualFunc(again.free, e.free, func(a, b span) bool { return a == b }) {
				t.Fatalf("seed %d: free cells are not as the editor knows them", seed)
			}
		}
		if len(p.data) == before {
			t.Errorf("seed %d: the hive never grew", seed)
		}
		sameAsForeign(t, p.data)
	}
}

// sameAsForeign holds our reading of a hive against libhivex's.
func sameAsForeign(t *testing.T, data []byte) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "hive")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		t.Fatal(err)
	}
	var ours []told
	tell(t, open(t, data).Root(), "", &ours)
	var theirs []told
	if err := json.Unmarshal(python(t, foreign, file), &theirs); err != nil {
		t.Fatal(err)
	}
	for _, all := range [][]told{ours, theirs} {
		for i := range all { // one byte less of 16,345: libhivex's fault
			all[i].Values = slices.DeleteFunc(slices.Clone(all[i].Values), func(v string) bool {
				return len(v) > 2*segment
			})
		}
	}
	sameTold(t, "a foreign reader", sorted(theirs), sorted(ours))
}

// TestAStoppedChange stops changes of every kind between and amid their steps,
// with any of the sectors written that were not synced. The hive is whole and
// clean each time, and as it was before or as it is after.
func TestAStoppedChange(t *testing.T) {
	const most = 200
	states := 0
	changes := map[string]func(e *Editor) error{
		"in the value": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Set(k, "Start", DWord, []byte{4, 0, 0, 0}, -1, at)
		},
		"of the same size": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Set(k, "Note", Binary, make([]byte, 12), -1, at)
		},
		"of another type": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Set(k, "Note", String, make([]byte, 700), -1, at)
		},
		"a large one": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Set(k, "Large", Binary, bytes.Repeat([]byte{7}, 40000), -1, at)
		},
		"a new one": func(e *Editor) error {
			k, _ := e.Root().Key("Empty")
			return e.Set(k, "New", Binary, make([]byte, 12), -1, at)
		},
		"one less": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Unset(k, "Long", at)
		},
		"a new key": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.MakeKey(k, "Made", at)
		},
		"the first key": func(e *Editor) error {
			k, _ := e.Root().Key("Empty")
			return e.MakeKey(k, "Made", at)
		},
		"a key less": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.RemoveKey(k, "Below", at)
		},
		"the last key": func(e *Editor) error {
			k, _ := e.Root().Key("Run", "Beside")
			return e.RemoveKey(k, "Only", at)
		},
		"a time": func(e *Editor) error {
			k, _ := e.Root().Key("Run")
			return e.Stamp(k, at.Add(time.Hour))
		},
	}
	for seed := range rounds(12) {
		rng := rand.New(rand.NewPCG(seed, 3))
		root := &write.Key{Name: "ROOT"}
		run := root.At("Run").Set(write.Counted("Start", 2),
			write.Raw("Note", Binary, []byte("twelve bytes")),
			write.Raw("Long", Binary, make([]byte, rng.IntN(3000))))
		for i := range rng.IntN(9) { // so that records lie elsewhere each time
			run.At(fmt.Sprintf("Pad%s%d", strings.Repeat("p", rng.IntN(60)), i))
		}
		run.At("Below")
		run.At(`Beside\Only`)
		root.At("Empty")
		clean := write.Hive(root, 5, `config\TEST`, at)
		for _, name := range slices.Sorted(maps.Keys(changes)) {
			e, p := edited(t, clean)
			p.watched = true
			err := changes[name](e)
			if errors.As(err, new(*Fault)) {
				whole(t, p.data)
				continue // a record across two sectors
			}
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			before, after := content(t, clean), content(t, p.data)
			for n, s := range p.steps {
				for _, state := range s.states(rng, most) {
					states++
					if _, err := edit(state); err != nil {
						t.Fatalf("seed %d, %s, step %d: %v", seed, name, n, err)
					}
					now := content(t, state)
					if !slices.Equal(now, before) && !slices.Equal(now, after) {
						t.Fatalf("seed %d, %s, step %d: neither as before nor as after", seed,
							name, n)
					}
				}
			}
		}
	}
	if states < 1000 {
		t.Errorf("only %d states were looked at", states)
	}
	t.Log(states, "states")
}

// states are the disks that a stop amid a step may leave. They have been left
// with any of its sectors written, or as many of these choices as are asked
// for.
func (s step) states(rng *rand.Rand, most int) (all [][]byte) {
	places := slices.Sorted(maps.Keys(s.sectors))
	build := func(chosen func(i int) bool) {
		disk := slices.Clone(s.before)
		for i, at := range places {
			if !chosen(i) {
				continue
			}
			end := at + int64(len(s.sectors[at]))
			if end > int64(len(disk)) {
				disk = append(disk, make([]byte, end-int64(len(disk)))...)
			}
			copy(disk[at:], s.sectors[at])
		}
		all = append(all, disk)
	}
	if len(places) < 8 {
		for n := range 1 << len(places) {
			build(func(i int) bool { return n>>i&1 != 0 })
		}
		return all
	}
	for range most {
		build(func(int) bool { return rng.IntN(2) == 0 })
	}
	return all
}

// TestChangesAreTakenBack makes changes and takes them back in any order: what
// the hive holds is as it was, and space is used again.
func TestChangesAreTakenBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	clean := grown(rng, 5)
	e, p := edited(t, clean)
	k, err := e.Root().Key("List lh")
	if err != nil {
		t.Fatal(err)
	}
	size := 0
	for range 300 {
		if err := e.MakeKey(k, "Approved", at); err != nil {
			t.Fatal(err)
		}
		k, _ = e.Root().Key("List lh")
		below, err := k.Key("approved")
		if err == nil {
			err = e.Set(below, "Some program", Binary, make([]byte, 12), -1, at)
		}
		if err == nil {
			below, _ = k.Key("Approved")
			err = e.Unset(below, "SOME PROGRAM", at)
		}
		if err == nil {
			err = e.RemoveKey(k, "Approved", at)
		}
		if err != nil {
			t.Fatal(err)
		}
		if k, _ = e.Root().Key("List lh"); size == 0 {
			size = len(p.data)
		}
	}
	if len(p.data) != size {
		t.Errorf("space is not used again: the hive has %d bytes, and had %d", len(p.data), size)
	}
	if !slices.Equal(content(t, clean), content(t, p.data)) {
		t.Error("the hive is not as it was")
	}
	whole(t, p.data)
}

// TestAnOpenTransactionIsToldByTheLogs has the mark of one in a hive that was
// written to its end: where its logs hold nothing newer, it means nothing.
func TestAnOpenTransactionIsToldByTheLogs(t *testing.T) {
	before, after := write.Hive(sample(), 5, "SYSTEM", at), write.Hive(changed(), 5, "SYSTEM", at)
	numbered := func(data []byte, n uint32) []byte {
		data = slices.Clone(data)
		copy(data[4:], le32(n))
		copy(data[8:], le32(n))
		copy(data[508:], le32(checksum(data[:512])))
		return data
	}
	_, log := logged(before, after) // of entries 1 and 2
	empty := numbered(log[:512], 7)
	torn := slices.Clone(log)
	torn[600] ^= 1
	for name, c := range map[string]struct {
		number uint32
		logs   [][]byte
		open   bool
	}{
		"no log":              {7, nil, true},
		"no log that is one":  {7, [][]byte{[]byte("nothing"), make([]byte, 600)}, true},
		"older entries":       {7, [][]byte{log}, false},
		"older, and none":     {7, [][]byte{log, empty}, false},
		"newer entries":       {1, [][]byte{log}, true},
		"the newest is newer": {2, [][]byte{log}, true},
		"a torn log":          {7, [][]byte{torn}, true},
	} {
		data := numbered(after, c.number)
		data[144] |= 1
		copy(data[508:], le32(checksum(data[:512])))
		_, err := Edit(newPaper(data), int64(len(data)), c.logs...)
		told := strings.Contains(strings.Join(open(t, data, c.logs...).Notes, " "), "transaction")
		if refused := err != nil; refused != c.open || told != c.open {
			t.Errorf("%s: %v, told %v", name, err, told)
		}
	}
}

// TestWhatIsNotEdited are hives that are refused, each with its reason.
func TestWhatIsNotEdited(t *testing.T) {
	clean := write.Hive(sample(), 5, `config\TEST`, at)
	damage := func(change func(data []byte)) []byte {
		data := slices.Clone(clean)
		change(data)
		copy(data[508:], le32(checksum(data[:512])))
		return data
	}
	cell := func(mark string) int { return bytes.Index(clean[headSize:], []byte(mark)) + headSize }
	for want, data := range map[string][]byte{
		"it is not a hive":    []byte("no"),
		"not written to its":  damage(func(d []byte) { d[4]++ }),
		"a transaction is":    damage(func(d []byte) { d[144] |= 1 }),
		"it is cut short":     clean[:len(clean)-4096],
		"its version 1.9":     damage(func(d []byte) { d[24] = 9 }),
		"the cell has 0":      damage(func(d []byte) { copy(d[headSize+32:], le32(0)) }),
		"no bin begins":       damage(func(d []byte) { copy(d[headSize:], "hbim") }),
		"belongs to another":  damage(func(d []byte) { copy(d[cell("abcde")-60:], le32(32)) }),
		"ring of descriptors": damage(func(d []byte) { copy(d[headSize+32+8:], le32(4096)) }),
		"have the descriptor": damage(func(d []byte) { copy(d[headSize+32+16:], le32(3)) }),
	} {
		_, err := edit(data)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	if _, err := edit(damage(func(d []byte) { d[headSize-1] = 7 })); err != nil {
		t.Error(err)
	}
	e, p := edited(t, clean)
	p.room = int64(len(clean))
	k, _ := e.Root().Key("Microsoft")
	if err := e.Set(k, "x", Binary, make([]byte, 9000), -1, at); err == nil {
		t.Error("a full disk took a value")
	}
	if !bytes.Equal(p.data, clean) {
		t.Error("a full disk changed the hive")
	}
	if err := e.Set(k, "y", Binary, nil, -1, at); !errors.Is(err, ErrSpoilt) {
		t.Errorf("after a failure: %v", err)
	}
}

// TestDamageNeverPanics opens hives with random damage for changes.
func TestDamageNeverPanics(t *testing.T) {
	clean := write.Hive(sample(), 5, `config\TEST`, at)
	rng := rand.New(rand.NewPCG(9, 9))
	for range rounds(2000) {
		data := slices.Clone(clean)
		for range 1 + rng.IntN(4) {
			data[headSize+rng.IntN(len(data)-headSize)] = byte(rng.Uint32())
		}
		e, err := edit(data)
		if err != nil {
			continue
		}
		if k, err := e.Root().Key("Microsoft", "Run"); err == nil {
			_ = e.Set(k, "Plain", Binary, make([]byte, 12), -1, at) // may fail, must not panic
		}
	}
}

// A padded file is a hive with many more bins of small cells to which nothing
// leads, which are made when they are read.
type padded struct {
	*paper
	size int64
}

func (p *padded) ReadAt(data []byte, at int64) (int, error) {
	if at+int64(len(data)) > p.size {
		return 0, io.EOF
	}
	const page, cell = 4096, 32
	var made [page]byte
	for n := 0; n < len(data); {
		from := at + int64(n)
		if from < int64(len(p.data)) {
			n += copy(data[n:], p.data[from:])
			continue
		}
		clear(made[:])
		copy(made[:], "hbin")
		copy(made[4:], le32(uint32(from/page*page-headSize), page))
		for c := binHead; c < page; c += cell {
			copy(made[c:], []byte{256 - cell, 255, 255, 255})
		}
		n += copy(data[n:], made[from%page:])
	}
	return len(data), nil
}

// pad is a clean hive with so many bytes more.
func pad(more int64) *padded {
	data := slices.Clone(write.Hive(sample(), 5, `config\TEST`, at))
	bins := uint32(len(data) - headSize)
	copy(data[40:], le32(bins+uint32(more)))
	copy(data[508:], le32(checksum(data[:512])))
	return &padded{newPaper(data), int64(len(data)) + more}
}

// TestLargeHivesAreNotHeld opens a hive of 100 MB for changes, and changes it:
// a part of it is in memory.
func TestLargeHivesAreNotHeld(t *testing.T) {
	f := pad(100 << 20)
	heap := func() int64 {
		runtime.GC()
		var now runtime.MemStats
		runtime.ReadMemStats(&now)
		return int64(now.HeapAlloc)
	}
	before := heap()
	e, err := Edit(f, f.size)
	if err != nil {
		t.Fatal(err)
	}
	if held := heap() - before; held > 48<<20 {
		t.Errorf("%d MB of it are held", held>>20)
	}
	k, err := e.Root().Key("Microsoft", "Run")
	if err == nil {
		err = e.Set(k, "Plain", Binary, make([]byte, 12), -1, at)
	}
	if err != nil {
		t.Fatal(err)
	}
	if holds, err := e.Holds(f, f.size); err != nil || !holds {
		t.Errorf("it does not hold what was written: %v, %v", holds, err)
	}
	f.data[headSize+binHead+40]++
	if holds, err := e.Holds(f, f.size); err != nil || holds {
		t.Errorf("a byte of somebody else counts as ours: %v", err)
	}
	if e.Forget(); len(e.blocks) > 0 {
		t.Error("blocks are held all the same")
	}
}

// BenchmarkLarge opens hives of two sizes for changes, and tells how much of
// them is held.
func BenchmarkLarge(b *testing.B) {
	for _, size := range []int64{70 << 20, 700 << 20} {
		b.Run(fmt.Sprint(size>>20, " MB"), func(b *testing.B) {
			f := pad(size)
			var now, before runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			for b.Loop() {
				e, err := Edit(f, f.size)
				if err != nil {
					b.Fatal(err)
				}
				runtime.GC()
				runtime.ReadMemStats(&now)
				runtime.KeepAlive(e)
			}
			b.ReportMetric(float64(now.HeapAlloc-before.HeapAlloc)/1e6, "MB-held")
		})
	}
}

// BenchmarkCheck walks a hive of some size.
func BenchmarkCheck(b *testing.B) {
	data := grown(rand.New(rand.NewPCG(1, 1)), 5)
	e, _ := edited(b, data)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		if len(e.Check()) > 0 {
			b.Fatal("a fault")
		}
	}
}
