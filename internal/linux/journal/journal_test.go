package journal

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/linux/journal/layout"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// bootEntries writes what a boot of two services says into w.
func bootEntries(w *write.Journal, n byte, at time.Time, filler int) {
	id := ID{n}
	add := func(ms int, fields ...string) {
		moment := time.Duration(ms) * time.Millisecond
		e := write.Entry{
			Realtime:  uint64(at.Add(moment).UnixMicro()),
			Monotonic: uint64(moment.Microseconds()),
			Boot:      id,
		}
		w.Add(e, append(fields, "_BOOT_ID="+id.String(), "PRIORITY=6"))
	}
	add(0, "MESSAGE=kernel", "_TRANSPORT=kernel")
	add(4000, msgStarting, "_PID=1", "UNIT=a.service")
	add(4200, msgStarting, "_PID=666", "UNIT=forged.service")
	add(4500, msgStarted, "_PID=1", "UNIT=plain.service")
	add(4600, msgStarted, "_PID=1", "UNIT=skipped.service", "INVOCATION_ID=")
	add(6003, msgStarted, "_PID=1", "UNIT=a.service",
		fmt.Sprintf("_SOURCE_REALTIME_TIMESTAMP=%d", at.Add(6*time.Second).UnixMicro()))
	for i := range filler {
		add(6010, fmt.Sprintf("MESSAGE=%d of boot %d %s", i, n, strings.Repeat("filler ", 60)),
			"_PID=77", "SYSLOG_IDENTIFIER=talker")
	}
	add(7000, msgStarted, "_PID=1", "UNIT=multi-user.target")
	add(7100, msgReady, "_PID=1", "KERNEL_USEC=2000000", "INITRD_USEC=1500000",
		"USERSPACE_USEC=3600000",
		"MESSAGE=Startup finished in 1min 2.500s (firmware) + 812ms (loader) + 2s (kernel) + "+
			"1.5s (initrd) + 3.6s (userspace) = 1min 10s.")
	add(9000, msgStarting, "_PID=1", "UNIT=a.service") // restarted later
	add(9100, msgStarted, "_PID=1", "UNIT=a.service")
	add(9500, msgResources, "_PID=1", "UNIT=a.service", "CPU_USAGE_NSEC=1500000000")
}

var began = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func machineOf(t testing.TB, files map[string][]byte) *machine.Root {
	t.Helper()
	dir := testtree.Make(t, map[string]string{
		"etc/machine-id": ID{5}.String() + "\n",
		"var/log/journal/" + ID{5}.String() + "/": "",
	})
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(dir, Folder, ID{5}.String(), name), data,
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	r, err := machine.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

func TestBootsOfSeveralFiles(t *testing.T) {
	w1, w2 := write.NewJournal(ID{5}, ID{1}), write.NewJournal(ID{5}, ID{2})
	bootEntries(w1, 1, began, 0)
	bootEntries(w1, 2, began.Add(24*time.Hour), 0)
	bootEntries(w2, 3, began.Add(48*time.Hour), 0)
	cut := write.NewJournal(ID{5}, ID{3})
	cut.Add(write.Entry{
		Realtime:  uint64(began.Add(72 * time.Hour).UnixMicro()),
		Monotonic: 5,
		Boot:      ID{4},
	}, []string{"_BOOT_ID=" + ID{4}.String()})
	r := machineOf(t, map[string][]byte{
		"system.journal":    w2.Bytes(),
		"system@a.journal":  w1.Bytes(),
		"system@b.journal~": cut.Bytes(),
		"user-1000.journal": []byte("not ours"),
	})
	found := Read(r, 0)
	if len(found.Boots) != 4 || len(found.Unread) != 1 {
		t.Fatalf("%d boots, unread %v", len(found.Boots), found.Unread)
	}
	for i, b := range found.Boots[:3] {
		a, _ := b.Span("a.service")
		plain, _ := b.Span("plain.service")
		_, forged := b.Span("forged.service")
		if skipped, _ := b.Span("skipped.service"); !skipped.Skipped || skipped.OwnTime().Known {
			t.Errorf("boot %d: a unit that was skipped: %+v", i, skipped)
		}
		if b.Ready != boot.Of(7*time.Second, boot.Log) || b.Goal != "multi-user.target" ||
			!b.Began.Equal(began.Add(time.Duration(i)*24*time.Hour)) {
			t.Errorf("boot %d: ready %v, goal %q, began %v", i, b.Ready, b.Goal, b.Began)
		}
		if a.OwnTime() != boot.Of(2*time.Second, boot.Log) ||
			a.CPU != boot.Of(1500*time.Millisecond, boot.Log) || plain.OwnTime().Known || forged {
			t.Errorf("boot %d: a %+v, plain %+v, forged %v", i, a, plain, forged)
		}
		if b.Phase("firmware").Value != 62500*time.Millisecond ||
			b.Phase("loader").Value != 812*time.Millisecond ||
			b.Phase("initrd").Value != 1500*time.Millisecond {
			t.Errorf("boot %d: phases %v", i, b.Phases)
		}
	}
	if last := found.Boots[3]; last.Fit() || last.Ready.Known || last.Ending != boot.Cut {
		t.Errorf("the boot that was cut short: %+v", last)
	}
	if two := Read(r, 2); len(two.Boots) != 2 || two.Boots[0].ID != found.Boots[2].ID {
		t.Errorf("the last two: %v", two.Boots)
	}
}

// TestWaitingForAPersonIsTakenOut has a boot wait for a passphrase: from when
// it was asked for, to when the disk was opened.
func TestWaitingForAPersonIsTakenOut(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	id := ID{1}
	add := func(ms int, fields ...string) {
		w.Add(write.Entry{
			Realtime:  uint64(began.UnixMicro()) + uint64(ms)*1000,
			Monotonic: uint64(ms) * 1000,
			Boot:      id,
		}, append(fields, "_BOOT_ID="+id.String()))
	}
	add(0, "MESSAGE=Linux version 6.1.0 (x)", "_TRANSPORT=kernel")
	add(20, "MESSAGE=Memory: 3900000K/4000000K available (x)", "_TRANSPORT=kernel")
	add(30, "MESSAGE=smp: Brought up 1 node, 4 CPUs", "_TRANSPORT=kernel")
	add(3000, msgStarting, "_PID=1", "UNIT=systemd-cryptsetup@home.service")
	add(4000, msgStarted, "_PID=1", "UNIT=systemd-ask-password-console.service")
	add(15000, cryptSetup, "_PID=300", "MESSAGE=Set cipher aes, mode xts-plain64, key size 512 "+
		"bits for device /dev/sda3.")
	const activates = "MESSAGE=[system] Activating via systemd: service name='org.example.Dome' " +
		"unit='dome.service' requested by ':1.7' (uid=0 pid=12 comm=\"/usr/bin/till --desk \" x)"
	add(16500, busDaemon, "_PID=200", "_SYSTEMD_UNIT=dbus.service", activates)
	add(16600, busDaemon, "_PID=201", "_SYSTEMD_UNIT=forged.service", activates)
	add(17000, msgStarted, "_PID=1", "UNIT=systemd-cryptsetup@home.service")
	add(19900, msgStarted, "_PID=1", "UNIT=multi-user.target")
	add(20000, msgReady, "_PID=1", "KERNEL_USEC=2000000", "USERSPACE_USEC=18000000")
	b := Read(machineOf(t, map[string][]byte{"system.journal": w.Bytes()}), 0).Boots[0]
	crypt, _ := b.Span("systemd-cryptsetup@home.service")
	if len(b.Waits) != 1 || b.Waits[0].Took != 11*time.Second ||
		b.Waits[0].What != "a passphrase for home" || b.Ready.Value != 8900*time.Millisecond ||
		crypt.OwnTime().Value != 3*time.Second {
		t.Errorf("ready %v, waits %+v, own time %v", b.Ready, b.Waits, crypt.OwnTime())
	}
	if want := (boot.Ask{Name: "org.example.Dome", Unit: "dome.service", By: "/usr/bin/till",
		PID: 12, At: 5500 * time.Millisecond}); len(b.Asks) != 1 || b.Asks[0] != want {
		t.Errorf("asked for: %+v", b.Asks)
	}
	if b.Kernel != "6.1.0" || b.Processors != 4 || b.Memory != 4000000<<10 ||
		b.Phase("userspace").Value != 7*time.Second {
		t.Errorf("%+v", b)
	}
}

// TestWrongClocks has boots begin with clocks that are years off, and are set
// right later. They stay in the order of the log, and are dated by the clock
// that was right.
func TestWrongClocks(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	for n := range 4 {
		id := ID{byte(n + 1)}
		right := began.Add(time.Duration(n) * time.Hour)
		wrong := right
		if n%2 == 1 {
			wrong = right.AddDate(-10, 0, 0)
		}
		add := func(clock time.Time, ms int, fields ...string) {
			w.Add(write.Entry{
				Realtime:  uint64(clock.UnixMicro()) + uint64(ms)*1000,
				Monotonic: uint64(ms) * 1000,
				Boot:      id,
			}, append(fields, "_BOOT_ID="+id.String()))
		}
		add(wrong, 100, "MESSAGE=kernel")
		add(wrong, 3000, msgStarted, "_PID=1", "UNIT=multi-user.target")
		add(wrong, 3100, msgReady, "_PID=1", "KERNEL_USEC=1000000", "USERSPACE_USEC=2100000")
		if n%2 == 1 && n < 3 { // the last one was never set right
			add(right, 9000, msgClock, "_PID=1", "MESSAGE=Time has been changed")
		}
	}
	found := Read(machineOf(t, map[string][]byte{"system.journal": w.Bytes()}), 0).Boots
	for n, b := range found {
		right := began.Add(time.Duration(n) * time.Hour)
		jumped := n == 1
		if b.ID != (ID{byte(n + 1)}).String() || b.Ready.Value != 3*time.Second ||
			n < 3 && !b.Began.Equal(right) || b.Jump.Known != jumped {
			t.Errorf("boot %d: %s began %v, ready %v, jump %v", n, b.ID, b.Began, b.Ready, b.Jump)
		}
	}
	if len(found) != 4 {
		t.Fatalf("%d boots", len(found))
	}
}

// TestDamagedTablesLoseNothing wipes out what leads to the entries; they are
// found one by one then, and one line tells of it.
func TestDamagedTablesLoseNothing(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	bootEntries(w, 1, began, 5)
	good := w.Bytes()
	for name, damage := range map[string]func(b []byte){
		"the table of names": func(b []byte) {
			fill(b, le.Uint64(b[layout.AtFieldTable:]), le.Uint64(b[layout.AtFieldTableSize:]))
		},
		"the table of values": func(b []byte) {
			fill(b, le.Uint64(b[layout.AtDataTable:]), le.Uint64(b[layout.AtDataTableSize:]))
		},
		"no names at all": func(b []byte) {
			clear(b[le.Uint64(b[layout.AtFieldTable:]):][:le.Uint64(b[layout.AtFieldTableSize:])])
		},
		"no values at all": func(b []byte) {
			clear(b[le.Uint64(b[layout.AtDataTable:]):][:le.Uint64(b[layout.AtDataTableSize:])])
		},
		"both": func(b []byte) {
			fill(b, le.Uint64(b[layout.AtFieldTable:]), le.Uint64(b[layout.AtFieldTableSize:]))
			fill(b, le.Uint64(b[layout.AtDataTable:]), le.Uint64(b[layout.AtDataTableSize:]))
		},
	} {
		bad := bytes.Clone(good)
		damage(bad)
		found := Read(machineOf(t, map[string][]byte{"system.journal": bad}), 0)
		if len(found.Boots) != 1 || found.Boots[0].Ready.Value != 7*time.Second ||
			len(found.Unread) != 1 {
			t.Errorf("%s: %d boots, unread %v", name, len(found.Boots), found.Unread)
			continue
		}
		if a, _ := found.Boots[0].Span("a.service"); a.OwnTime().Value != 2*time.Second {
			t.Errorf("%s: %+v", name, a)
		}
	}
}

func fill(b []byte, from, size uint64) {
	for i := from; i < from+size; i++ {
		b[i] = 0x55
	}
}

// TestDamagedAmongWhole reads several files at once of which every second has
// lost what leads to its entries. Their boots turn up while the others are
// being read.
func TestDamagedAmongWhole(t *testing.T) {
	files := map[string][]byte{}
	const n = 24
	for i := range n {
		w := write.NewJournal(ID{5}, ID{byte(i + 1)})
		for k := range 4 {
			bootEntries(w, byte(1+i*4+k), began.Add(time.Duration(i*4+k)*time.Hour), 20)
		}
		b := w.Bytes()
		if i%2 == 0 {
			fill(b, le.Uint64(b[layout.AtFieldTable:]), le.Uint64(b[layout.AtFieldTableSize:]))
		}
		files[fmt.Sprintf("system@%02d.journal", i)] = b
	}
	found := Read(machineOf(t, files), 0)
	if len(found.Boots) != 4*n || len(found.Unread) != n/2 {
		t.Fatalf("%d boots, unread %v", len(found.Boots), found.Unread)
	}
	for i, b := range found.Boots {
		if b.ID != (ID{byte(i + 1)}).String() || !b.Ready.Known {
			t.Errorf("boot %d: %s, ready %v", i, b.ID, b.Ready)
		}
	}
}

// TestAFieldWithoutAValue reads an entry of whose fields one is a name that is
// looked at, and no more.
func TestAFieldWithoutAValue(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	bootEntries(w, 1, began, 5)
	id := ID{1}
	w.Add(write.Entry{Realtime: uint64(began.UnixMicro()) + 9e6, Monotonic: 9e6, Boot: id},
		[]string{
			msgStarted, "_PID=1", "UNIT=late.service", "_BOOT_ID=" + id.String(),
			"_SOURCE_REALTIME_TIMESTAM=",
		})
	bad := bytes.Replace(w.Bytes(), []byte("_SOURCE_REALTIME_TIMESTAM="),
		[]byte("_SOURCE_REALTIME_TIMESTAMP"), 1)
	found := Read(machineOf(t, map[string][]byte{"system.journal": bad}), 0)
	if len(found.Boots) != 1 || len(found.Unread) > 0 {
		t.Fatalf("%d boots, unread %v", len(found.Boots), found.Unread)
	}
	if late, ok := found.Boots[0].Span("late.service"); !ok || late.End.Value != 9*time.Second {
		t.Errorf("%+v", late)
	}
}

// TestHostileSizes reads a damaged file that claims a tebibyte of which next to
// nothing was ever written. Another leads to the same places again and again.
// Both come to an end.
func TestHostileSizes(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	bootEntries(w, 1, began, 5)
	bad := w.Bytes()
	f, err := NewFile(bytes.NewReader(bad), int64(len(bad)))
	if err != nil {
		t.Fatal(err)
	}
	c := collector{boots: map[ID]*record{}, users: map[string]string{}}
	f.allowed = 20
	if damage := (*Damage)(nil); !errors.As(c.listBoots(f), &damage) ||
		!strings.Contains(damage.What, "again and again") {
		t.Errorf("more steps than are allowed: %v", damage)
	}
	fill(bad, le.Uint64(bad[layout.AtFieldTable:]), le.Uint64(bad[layout.AtFieldTableSize:]))
	r := machineOf(t, map[string][]byte{"system.journal": bad})
	if err := os.Truncate(filepath.Join(r.Dir(), Folder, ID{5}.String(), "system.journal"),
		1<<40); err != nil {
		t.Fatal(err)
	}
	if found := Read(r, 0); len(found.Boots) != 1 || len(found.Unread) != 1 {
		t.Errorf("%d boots, unread %v", len(found.Boots), found.Unread)
	}
}

// TestMemoryOfADamagedLog reads damaged files of which one holds ten times the
// entries: what it takes does not grow with them.
func TestMemoryOfADamagedLog(t *testing.T) {
	// each reader has its share of the pages then
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(maxReaders))
	var took []uint64
	for _, filler := range []int{1000, 10_000} {
		w := write.NewDeepJournal(ID{5}, ID{1}, 20_000)
		for n := range 10 {
			aBoot(w, byte(n+1), began.Add(time.Duration(n)*time.Hour), filler)
		}
		bad := w.Bytes()
		fill(bad, le.Uint64(bad[layout.AtFieldTable:]), le.Uint64(bad[layout.AtFieldTableSize:]))
		r := machineOf(t, map[string][]byte{"system.journal": bad})
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		found := Read(r, 0)
		runtime.ReadMemStats(&after)
		if len(found.Boots) != 10 {
			t.Fatalf("%d boots", len(found.Boots))
		}
		t.Logf("%d MB of log, %d kB taken", len(bad)>>20, (after.TotalAlloc-before.TotalAlloc)>>10)
		took = append(took, after.TotalAlloc-before.TotalAlloc)
	}
	if took[1] > took[0]+8<<20 {
		t.Errorf("it took %d bytes and then %d", took[0], took[1])
	}
}

func TestCompressedFields(t *testing.T) {
	text := []byte("MESSAGE=" + strings.Repeat("again and again ", 200))
	f := &File{}
	var packed bytes.Buffer
	x, _ := xz.NewWriter(&packed)
	_, err := x.Write(text)
	if err = errors.Join(err, x.Close()); err != nil {
		t.Fatal(err)
	}
	z, _ := zstd.NewWriter(nil)
	block := make([]byte, lz4.CompressBlockBound(len(text)))
	n, err := lz4.CompressBlock(text, block, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		flag byte
		raw  []byte
	}{
		"xz":   {layout.ObjectXZ, packed.Bytes()},
		"zstd": {layout.ObjectZstd, z.EncodeAll(text, nil)},
		"lz4":  {layout.ObjectLZ4, append(le.AppendUint64(nil, uint64(len(text))), block[:n]...)},
	} {
		if got, err := f.decompress(c.raw, c.flag); err != nil || !bytes.Equal(got, text) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		for cut := range len(c.raw) {
			if got, err := f.decompress(c.raw[:cut], c.flag); err == nil && len(got) > maxField {
				t.Errorf("%s cut at %d gives %d bytes", name, cut, len(got))
			}
		}
	}
	if _, err := f.decompress(le.AppendUint64(nil, 1<<40), layout.ObjectLZ4); err == nil {
		t.Error("a field that claims a tebibyte was decompressed")
	}
}

// TestDamage flips and cuts bytes of a good file: whatever is read, nothing
// hangs, fails hard or grows without bound.
func TestDamage(t *testing.T) {
	w := write.NewJournal(ID{5}, ID{1})
	bootEntries(w, 1, began, 3)
	good := w.Bytes()
	rng := rand.New(rand.NewPCG(3, 4))
	intact := 0
	for round := range 400 {
		bad := bytes.Clone(good)
		if round%4 == 0 {
			bad = bad[:rng.IntN(len(bad))]
		} else {
			for range 1 + rng.IntN(20) {
				bad[rng.IntN(len(bad))] = byte(rng.Uint32())
			}
		}
		f, err := NewFile(bytes.NewReader(bad), int64(len(bad)))
		if err != nil {
			continue
		}
		c := collector{boots: map[ID]*record{}, users: map[string]string{}}
		_ = c.listBoots(f)
		_ = c.readMessages(f, true)
		c.salvage(f, true)
		if len(c.finish()) > 0 {
			intact++
		}
		n := 0
		for e, err := range f.Entries() {
			if n++; err != nil || n > 10_000 {
				break
			}
			for _, err := range f.Fields(e) {
				if err != nil {
					break
				}
			}
		}
	}
	if intact < 100 {
		t.Errorf("only %d of 400 damaged files still gave their boot", intact)
	}
	bad := bytes.Clone(good)
	bad[layout.AtIncompatible] |= 1 << 6
	if _, err := NewFile(bytes.NewReader(bad),
		int64(len(bad))); err == nil || !strings.Contains(err.Error(), "newer form") {
		t.Errorf("a file of an unknown form: %v", err)
	}
}

func FuzzFile(f *testing.F) {
	w := write.NewJournal(ID{5}, ID{1})
	bootEntries(w, 1, began, 1)
	f.Add(w.Bytes()[:4096])
	// few buckets: a file small enough for mutations to meet its entries
	whole := write.NewDeepJournal(ID{5}, ID{1}, 16)
	bootEntries(whole, 1, began, 1)
	f.Add(whole.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := NewFile(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		c := collector{boots: map[ID]*record{}, users: map[string]string{}}
		_ = c.listBoots(file)
		_ = c.readMessages(file, true)
		c.salvage(file, true)
		c.finish()
	})
}

// aBoot writes a boot of 150 units, with all the fields that the service
// manager's messages carry, and so many other entries.
func aBoot(w *write.Journal, n byte, at time.Time, filler int) {
	bootEntries(w, n, at, filler)
	id := ID{n}
	add := func(micro int, fields ...string) {
		e := write.Entry{
			Realtime:  uint64(at.UnixMicro()) + uint64(micro),
			Monotonic: uint64(micro),
			Boot:      id,
		}
		w.Add(e,
			append(fields, "_BOOT_ID="+id.String(), "PRIORITY=6", "SYSLOG_FACILITY=3", "TID=1",
				"_TRANSPORT=journal", "_PID=1", "_UID=0", "_GID=0", "_COMM=systemd",
				"_EXE=/usr/lib/systemd/systemd", "_CMDLINE=/sbin/init",
				"_CAP_EFFECTIVE=1ffffffffff", "_SELINUX_CONTEXT=unconfined",
				"_SYSTEMD_CGROUP=/init.scope",
				"_SYSTEMD_UNIT=init.scope", "_SYSTEMD_SLICE=-.slice",
				"_MACHINE_ID="+ID{5}.String(), "_HOSTNAME=bench", "SYSLOG_IDENTIFIER=systemd",
				"_RUNTIME_SCOPE=system",
				fmt.Sprintf("_SOURCE_REALTIME_TIMESTAMP=%d", at.UnixMicro()+int64(micro))))
	}
	for u := range 150 {
		unit := fmt.Sprintf("UNIT=unit-%d.service", u)
		add(3_000_000+u*20_000, msgStarting, unit, "JOB_TYPE=start", fmt.Sprintf("JOB_ID=%d", u),
			"CODE_FILE=src/core/job.c", "CODE_LINE=581", "CODE_FUNC=job_emit_start_message",
			fmt.Sprintf("INVOCATION_ID=%016x%016x", n, u), fmt.Sprintf("MESSAGE=Starting "+
				"unit-%d.service - A service of the bench...", u))
		add(3_010_000+u*20_000, msgStarted, unit, "JOB_TYPE=start", "JOB_RESULT=done",
			fmt.Sprintf("JOB_ID=%d", u), "CODE_FILE=src/core/job.c", "CODE_LINE=768",
			"CODE_FUNC=job_emit_done_message",
			fmt.Sprintf("INVOCATION_ID=%016x%016x", n, u), fmt.Sprintf("MESSAGE=Started "+
				"unit-%d.service - A service of the bench.", u))
	}
}

// hundredBoots writes a log of 100 boots into eight files, as it is rotated,
// with so many other entries a boot.
func hundredBoots(b *testing.B, filler int) *machine.Root {
	r := machineOf(b, nil)
	for n := range 8 {
		w := write.NewDeepJournal(ID{5}, ID{byte(n + 1)}, 233_016)
		for k := n * 100 / 8; k < (n+1)*100/8; k++ {
			aBoot(w, byte(k), began.Add(time.Duration(k)*24*time.Hour), filler)
		}
		name := filepath.Join(r.Dir(), Folder, ID{5}.String(), fmt.Sprintf("system@%d.journal", n))
		if err := os.WriteFile(name, w.Bytes(), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return r
}

// BenchmarkBoots reads all boots of a log of 1 GB with 100 boots, and of one
// with a tenth of the other entries. "share" is the part of its bytes that were
// read. "growth" is how much longer it took than with the tenth. "ratio" is how
// much longer the operating system's own log program takes for the same kinds
// of message, taking turns with the files in memory. All are of medians.
func BenchmarkBoots(b *testing.B) {
	small, large := hundredBoots(b, 1300), hundredBoots(b, 13000)
	defer debug.SetGCPercent(debug.SetGCPercent(500)) // as in the program
	read := func(r *machine.Root) (Boots, time.Duration) {
		start := time.Now()
		found := Read(r, 0)
		if len(found.Boots) != 100 || !found.Boots[99].Fit() {
			b.Fatalf("%d boots", len(found.Boots))
		}
		return found, time.Since(start)
	}
	theirs := func() time.Duration {
		start := time.Now()
		cmd := exec.Command("journalctl", "--no-pager", "-o", "export", "-D",
			filepath.Join(large.Dir(), Folder, ID{5}.String()),
			msgStarting, msgStarted, msgFailed, msgReady, msgUserReady, msgResources)
		if err := cmd.Run(); err != nil {
			b.Fatal(err)
		}
		return time.Since(start)
	}
	_, err := exec.LookPath("journalctl")
	compared := err == nil
	if !compared {
		b.Log("the system's log program is not installed; nothing to compare with")
	}
	read(small) // after that, the files are in memory
	read(large)
	var found Boots
	var tenth, whole, system []time.Duration
	for b.Loop() {
		var d time.Duration
		_, d = read(small)
		tenth = append(tenth, d)
		found, d = read(large)
		whole = append(whole, d)
		if b.StopTimer(); compared && len(whole)%4 == 1 {
			system = append(system, theirs())
		}
		b.StartTimer()
	}
	b.ReportMetric(float64(found.Size)/1e6, "MB")
	b.ReportMetric(100*float64(found.Bytes)/float64(found.Size), "share-%")
	ours := boot.Median(whole)
	b.ReportMetric(ours.Seconds()*1e3, "ms")
	b.ReportMetric(float64(ours)/float64(boot.Median(tenth)), "growth")
	if compared {
		b.ReportMetric(float64(boot.Median(system))/float64(ours), "ratio")
	}
}
