//go:build linux

package boottest_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"calmdawn/internal/boottest"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/demo"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// TestOurReaderAgreesWithTheSystemsOwn boots machines whose log is written in
// different forms. It compares every field of every entry, and the boots, with
// what the operating system's log program says.
func TestOurReaderAgreesWithTheSystemsOwn(t *testing.T) {
	t.Parallel()
	const keyed, zstd, compact = 4, 8, 16 // of the file's header
	for name, c := range map[string]struct {
		form  string
		flags uint32
	}{
		"as it comes": {"", keyed | zstd | compact},
		"wide keyed":  {"SYSTEMD_JOURNAL_COMPACT=0", keyed | zstd},
		"wide plain":  {"SYSTEMD_JOURNAL_COMPACT=0 SYSTEMD_JOURNAL_KEYED_HASH=0", zstd},
	} {
		t.Run(name, func(t *testing.T) {
			m := boottest.New(t, map[string]string{
				"etc/systemd/system/systemd-journald.service.d/form.conf": "[Service]\n" +
					"Environment=" + c.form + "\n",
				"etc/systemd/system/talk.service": "[Service]\n" +
					"Type=oneshot\nExecStart=/bin/sh -c 'for i in 1 2 3; do head -c 3000 " +
					"/dev/zero | tr \"\\\\\\\\0\" $i; echo; done; sleep 0.3; printf " +
					"\"\\\\\\\\001binary\\\\n\"'\n",
				"etc/systemd/system/multi-user.target.wants/talk.service": "-> ../talk.service",
			})
			m.Boot(t)
			m.Boot(t)
			written := func() (files []string) {
				files, _ = filepath.Glob(filepath.Join(m.Dir, "var/log/journal/*/*.journal*"))
				return files
			}
			files := written()
			if len(files) == 0 { // it may be off before its log is on the disk
				m.Boot(t)
				files = written()
			}
			if len(files) == 0 {
				t.Fatal("the machine wrote no log")
			}
			entries := 0
			for _, file := range files {
				entries += compareFile(t, file)
				head, err := os.ReadFile(file)
				if err != nil || binary.LittleEndian.Uint32(head[12:]) != c.flags {
					t.Errorf("%s has the flags %#x; want %#x", file, head[12:16], c.flags)
				}
			}
			if entries < 200 {
				t.Errorf("only %d entries were compared", entries)
			}
			compareBoots(t, m)
		})
	}
}

// TestEveryCompression writes files with each way of compressing, which the
// system at hand cannot be told to do. The operating system's log program says
// whether they are right and what stands in them.
func TestEveryCompression(t *testing.T) {
	for name, pack := range map[string]func([]byte) ([]byte, byte){
		"xz": func(b []byte) ([]byte, byte) {
			var packed bytes.Buffer
			w, err := xz.WriterConfig{CheckSum: xz.CRC32}.NewWriter(&packed)
			ok(t, err)
			_, err = w.Write(b)
			ok(t, err)
			ok(t, w.Close())
			return packed.Bytes(), 1
		},
		"lz4": func(b []byte) ([]byte, byte) {
			block := make([]byte, lz4.CompressBlockBound(len(b)))
			n, err := lz4.CompressBlock(b, block, nil)
			ok(t, err)
			return append(binary.LittleEndian.AppendUint64(nil, uint64(len(b))), block[:n]...), 2
		},
		"zstd": func(b []byte) ([]byte, byte) {
			w, err := zstd.NewWriter(nil)
			ok(t, err)
			return w.EncodeAll(b, nil), 4
		},
	} {
		w := write.NewJournal(journal.ID{1}, journal.ID{2})
		w.Pack = func(b []byte) ([]byte, byte) {
			if len(b) < 512 {
				return b, 0
			}
			return pack(b)
		}
		id := journal.ID{3}
		for i := range 300 {
			e := write.Entry{
				Realtime:  uint64(1.7e15) + uint64(i)*1000,
				Monotonic: uint64(i) * 1000,
				Boot:      id,
			}
			w.Add(e, []string{
				fmt.Sprintf("MESSAGE=%d %s", i%50, strings.Repeat("on and on ", 30*(i%50))),
				"_BOOT_ID=" + id.String(),
				"PRIORITY=6",
			})
		}
		file := filepath.Join(t.TempDir(), name+".journal")
		ok(t, os.WriteFile(file, w.Bytes(), 0o644))
		if out, err := exec.Command("journalctl", "--verify", "--file",
			file).CombinedOutput(); err != nil || !strings.Contains(string(out), "PASS") {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
		if n := compareFile(t, file); n != 300 {
			t.Errorf("%s: %d entries", name, n)
		}
	}
}

// fields maps names to all values that they have in one entry, in order.
type fields map[string][]string

func compareFile(t testing.TB, file string) int {
	t.Helper()
	var ours []fields
	f := openLog(t, file)
	for e, err := range f.Entries() {
		if err != nil {
			t.Fatal(err)
		}
		entry := fields{
			"__REALTIME_TIMESTAMP":  {fmt.Sprint(e.Realtime)},
			"__MONOTONIC_TIMESTAMP": {fmt.Sprint(e.Monotonic)},
			"_BOOT_ID":              {e.Boot.String()},
		}
		for field, err := range f.Fields(e) {
			if err != nil {
				t.Fatal(err)
			}
			name, value, _ := strings.Cut(string(field), "=")
			if name != "_BOOT_ID" {
				entry[name] = append(entry[name], value)
			}
		}
		ours = append(ours, entry)
		// What the hash table leads to is what a walk finds.
		if message := entry["MESSAGE_ID"]; len(message) == 1 {
			if _, ok, err := f.Find("MESSAGE_ID=" + message[0]); err != nil || !ok {
				t.Fatalf("%s is not found by its hash: %v", message[0], err)
			}
		}
	}
	out, err := exec.Command("journalctl", "--file", file, "-o", "json", "--all",
		"--no-pager").Output()
	if err != nil {
		t.Fatal(err)
	}
	var theirs []fields
	for line := range bytes.Lines(out) {
		theirs = append(theirs, parseEntry(t, line))
	}
	if len(ours) != len(theirs) {
		t.Fatalf("%s: %d entries, the system's own reader finds %d", file, len(ours), len(theirs))
	}
	for i := range ours {
		for name, want := range theirs[i] {
			slices.Sort(want)
			slices.Sort(ours[i][name])
			if !slices.Equal(ours[i][name], want) {
				t.Fatalf("entry %d: %s is %.100q; want %.100q", i, name, ours[i][name], want)
			}
			delete(ours[i], name)
		}
		if len(ours[i]) > 0 {
			t.Fatalf("entry %d has fields that the system's own reader does not show: %v", i,
				ours[i])
		}
	}
	return len(ours)
}

func openLog(t testing.TB, file string) *journal.File {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	f, err := journal.NewFile(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// parseEntry reads one line of the log program's JSON: a value is a text, a
// list of bytes, or a list of values.
func parseEntry(t testing.TB, line []byte) fields {
	t.Helper()
	var raw map[string]any
	if err := json.Unmarshal(line, &raw); err != nil {
		t.Fatal(err)
	}
	one := func(v any) string {
		if text, ok := v.(string); ok {
			return text
		}
		var b []byte
		for _, n := range v.([]any) {
			b = append(b, byte(n.(float64)))
		}
		return string(b)
	}
	entry := fields{}
	for name, v := range raw {
		if name == "__CURSOR" {
			continue
		}
		list, isList := v.([]any)
		if _, bytes := first(list).(float64); !isList || bytes {
			entry[name] = []string{one(v)}
			continue
		}
		for _, v := range list {
			entry[name] = append(entry[name], one(v))
		}
	}
	return entry
}

func first(list []any) any {
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

// compareBoots checks boots against the log program's own list and texts.
func compareBoots(t testing.TB, m *boottest.Machine) {
	t.Helper()
	r, err := machine.Open(m.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	found := journal.Read(r, 0)
	out, err := exec.Command("journalctl", "-D", filepath.Join(m.Dir, "var/log/journal"),
		"--list-boots", "--no-pager").Output()
	if err != nil {
		t.Fatal(err)
	}
	if len(found.Boots) != 2 || len(found.Unread) > 0 {
		t.Fatalf("%d boots, unread %v", len(found.Boots), found.Unread)
	}
	for _, b := range found.Boots {
		if !strings.Contains(string(out), b.ID) {
			t.Errorf("boot %s is not among\n%s", b.ID, out)
		}
		if !b.Fit() || b.Ending != boot.Clean || b.Goal != "graphical.target" ||
			!b.Phase("userspace").Known || b.Phase("kernel").Known {
			t.Errorf("boot %s: ready %v, goal %q, odd %v, phases %v", b.ID, b.Ready, b.Goal, b.Odd,
				b.Phases)
		}
		if u := b.Phase("userspace").Value; b.Ready.Value > u || u-b.Ready.Value > 2*time.Second {
			t.Errorf("ready after %v, the whole start-up took %v", b.Ready.Value, u)
		}
		span, ok := b.Span("talk.service")
		if own := span.OwnTime(); !ok || !own.Known || own.Value < 300*time.Millisecond ||
			own.Value > 5*time.Second {
			t.Errorf("talk.service sleeps 0.3 s; its own time is %v", own)
		}
		if began := time.Since(b.Began); began < 0 || began > 10*time.Minute {
			t.Errorf("the boot began %v ago", began)
		}
	}
}

// TestTheSimulatorsFilesPassTheSystemsVerification has the operating system's
// log program check each simulated boot.
func TestTheSimulatorsFilesPassTheSystemsVerification(t *testing.T) {
	if _, err := exec.LookPath("journalctl"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal(err)
		}
		t.Skip("the log program is not installed; make test installs it")
	}
	dir := filepath.Join(t.TempDir(), "meridian")
	if err := demo.Make(dir, time.Now()); err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "var/log/journal/*/*.journal"))
	if len(files) != 5 {
		t.Fatalf("%d log files; want 5", len(files))
	}
	for _, file := range files {
		if out, err := exec.Command("journalctl", "--verify", "--file",
			file).CombinedOutput(); err != nil || !strings.Contains(string(out), "PASS") {
			t.Errorf("%v\n%s", err, out)
		}
		if n := compareFile(t, file); n < 50 {
			t.Errorf("only %d entries", n)
		}
	}
}
