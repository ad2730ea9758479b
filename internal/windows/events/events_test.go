package events

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
)

var at = time.Date(2026, 11, 2, 7, 31, 5, 123456700, time.UTC)

// sample makes events of several kinds, with data of every type.
func sample(n int) (all []write.Event) {
	for i := range n {
		when := at.Add(time.Duration(i) * time.Minute)
		e := write.Event{
			Time: when, Provider: "Microsoft-Windows-Kernel-General",
			ID: 12, Level: 4, Channel: "System", Computer: "GNOMON", Data: []write.Field{
				{Name: "MajorVersion", Value: write.Uint32(10)},
				{Name: "StartTime", Value: write.Instant(when)},
			},
		}
		switch i % 3 {
		case 1:
			e.Provider, e.ID, e.User = "Microsoft-Windows-Diagnostics-Performance", 100, "S-1-5-19"
			e.Data = []write.Field{
				{Name: "BootTime", Value: write.Uint32(uint32(31000 + i))},
				{Name: "BootIsRebootAfterInstall", Value: write.Bool(i%2 == 0)},
				{Name: "Name", Value: write.Text(strings.Repeat("größer 日本 ", 1+i%40))},
				{Name: "Hex", Value: write.Hex32(uint32(i))},
				{Name: "Long", Value: write.Uint64(1 << 40)},
			}
		case 2:
			e.Provider, e.ID, e.Data = "Other", uint16(i), nil
			if i%2 == 0 {
				e.UserData = "EventXML"
				e.Data = []write.Field{{Name: "SessionID", Value: write.Uint32(uint32(i))}}
			}
		}
		all = append(all, e)
	}
	return all
}

func everything(string, uint16) bool { return true }

func readAll(t testing.TB, log []byte, want Wanted) ([]Event, Report) {
	t.Helper()
	var all []Event
	report, err := Read(bytes.NewReader(log), int64(len(log)), want,
		func(e Event) { all = append(all, e) })
	if err != nil {
		t.Fatal(err)
	}
	return all, report
}

func told(e Event) string {
	text := fmt.Sprint(e.Record, e.Time, e.Provider, e.ID, e.Level, e.Channel, e.Computer, e.User)
	for _, f := range e.Data {
		text += fmt.Sprintf(" %s=%d:%s", f.Name, f.Value.Type, f.Value.Text())
	}
	return text
}

// asRead is an event as it has to be read.
func asRead(e write.Event, number uint64) Event {
	read := Event{
		Record: number, Time: e.Time, Provider: e.Provider, ID: e.ID, Level: e.Level,
		Channel: e.Channel, Computer: e.Computer, User: e.User,
	}
	for _, f := range e.Data {
		read.Data = append(read.Data, Field{f.Name, Value{Type: f.Value.Type, Data: f.Value.Data}})
	}
	return read
}

// TestAllThatIsWrittenIsRead writes logs of several chunks, closed and not, and
// reads them back whole, or what is wanted of them.
func TestAllThatIsWrittenIsRead(t *testing.T) {
	all := sample(2000)
	for _, dirty := range []bool{false, true} {
		log := write.EventLog(all, 40, dirty)
		found, report := readAll(t, log, everything)
		if len(found) != len(all) || report.Lost > 0 || report.Damaged > 0 ||
			report.Dirty != dirty {
			t.Fatalf("%d of %d, %+v", len(found), len(all), report)
		}
		for i := range all {
			if want := told(asRead(all[i], uint64(40+i))); told(found[i]) != want {
				t.Fatalf("event %d is\n%s, and was\n%s", i, told(found[i]), want)
			}
		}
	}
	few, _ := readAll(t, write.EventLog(all, 40, false), func(provider string, id uint16) bool {
		return provider == "Microsoft-Windows-Diagnostics-Performance" && id == 100
	})
	if len(few) != 667 {
		t.Errorf("%d events are wanted", len(few))
	}
	if n, ok := few[3].Number("BootTime"); !ok || n < 31000 {
		t.Errorf("a number: %d %v", n, ok)
	}
	start, _ := found0(t, all).Field("StartTime")
	if when, ok := start.Time(); !ok || !when.Equal(at) {
		t.Errorf("an instant: %v %v", when, ok)
	}
}

// TestWhatStandsInValues reads lists of texts, and elements that stand in a
// value as they are.
func TestWhatStandsInValues(t *testing.T) {
	all := []write.Event{{Time: at, Provider: "Installer", ID: 1033, Data: []write.Field{
		{Value: write.Value{
			Type: TypeText | typeArray, Data: write.Text("Penstock\x002.1\x00").Data,
		}},
	}}}
	log := write.EventLog(all, 1, true)[fileHead:]
	// A name stands behind its length: four letters.
	name := bytes.Index(log, []byte("\x04\x00D\x00a\x00t\x00a\x00")) - 6
	inside := []byte{tokenFragment, 1, 1, 0, tokenOpen, 0, 0, 0, 0}
	inside = append(inside, byte(name), byte(name>>8), 0, 0, tokenClose, tokenValue, TypeText, 2, 0,
		'o', 0, 'k', 0, tokenEndOf, tokenEnd)
	all = append(all, write.Event{Time: at, Provider: "Other", ID: 7, Data: []write.Field{
		{Name: "UserData", Value: write.Value{Type: typeXML, Data: inside}},
	}})
	log = write.EventLog(all, 1, true)
	found, report := readAll(t, log, everything)
	if len(found) != 2 || report.Lost > 0 {
		t.Fatalf("%+v %+v", found, report)
	}
	if d := found[0].Data; len(d) != 2 || d[0].Value.Text() != "Penstock" ||
		d[1].Value.Text() != "2.1" {
		t.Errorf("a list of texts: %+v", d)
	}
	if d := found[1].Data; len(d) != 1 || d[0].Value.Text() != "ok" {
		t.Errorf("elements in a value: %+v", d)
	}
}

func found0(t *testing.T, all []write.Event) Event {
	found, _ := readAll(t, write.EventLog(all[:1], 40, false), everything)
	return found[0]
}

// TestDamageLosesOnlyItself damages records, chunks and the end of a log: what
// is elsewhere is read all the same.
func TestDamageLosesOnlyItself(t *testing.T) {
	all := sample(2000)
	log := write.EventLog(all, 40, false)
	chunks := (len(log) - fileHead) / chunkSize
	if chunks < 4 {
		t.Fatalf("%d chunks", chunks)
	}
	spoil := func(change func(log []byte)) ([]Event, Report) {
		copy := slices.Clone(log)
		change(copy)
		return readAll(t, copy, everything)
	}
	whole, _ := spoil(func([]byte) {})
	second := fileHead + chunkSize
	one := second + chunkHead + int(log[second+chunkHead+4]) + int(log[second+chunkHead+5])<<8
	for want, change := range map[string]func(log []byte){
		"a record":   func(log []byte) { log[one] = 7 },
		"its size":   func(log []byte) { log[one+4] = 9 },
		"a chunk":    func(log []byte) { clear(log[second : second+chunkSize]) },
		"a sum":      func(log []byte) { log[second+124] ^= 1 },
		"a template": func(log []byte) { log[second+chunkHead+40] ^= 0xFF },
	} {
		found, report := spoil(change)
		first, last := found[0].Record, found[len(found)-1].Record
		if first != 40 || last != whole[len(whole)-1].Record || len(found) > len(whole) {
			t.Errorf("%s: from %d to %d, %+v", want, first, last, report)
		}
		if want != "a chunk" && len(found) < len(whole)-900 || want == "a record" &&
			len(found) < len(whole)-2 {
			t.Errorf("%s: %d of %d, %+v", want, len(found), len(whole), report)
		}
	}
	cut, _ := readAll(t, log[:len(log)-chunkSize/2], everything)
	if len(cut) < len(whole)*3/4 {
		t.Errorf("cut off: %d of %d", len(cut), len(whole))
	}
	// a ring that began anew: what was there before stands behind
	ring := write.EventLog(all[:30], 5000, true)
	old := slices.Clone(log[fileHead : fileHead+chunkSize])
	free := int(ring[fileHead+48]) | int(ring[fileHead+49])<<8
	copy(old[:free], ring[fileHead:fileHead+free])
	found, _ := readAll(t, append(ring[:fileHead:fileHead], old...), everything)
	if len(found) != 30 {
		t.Errorf("of a ring %d events, and not 30", len(found))
	}
}

// TestRandomDamage never panics, and never runs away.
func TestRandomDamage(t *testing.T) {
	log := write.EventLog(sample(300), 1, false)
	rng := rand.New(rand.NewPCG(2, 2))
	for range 500 {
		copy := slices.Clone(log)
		for range 1 + rng.IntN(20) {
			copy[fileHead+rng.IntN(len(copy)-fileHead)] = byte(rng.Uint32())
		}
		readAll(t, copy, everything)
	}
}

// FuzzRead reads logs of one chunk, which begins with what is given, and is
// zero behind it: so the inputs are short.
func FuzzRead(f *testing.F) {
	whole := write.EventLog(sample(2), 1, false)
	f.Add(bytes.TrimRight(whole[fileHead:], "\x00"))
	f.Fuzz(func(t *testing.T, chunk []byte) {
		log := slices.Clone(whole)
		clear(log[fileHead+copy(log[fileHead:], chunk):])
		_, _ = Read(bytes.NewReader(log), int64(len(log)), everything, func(e Event) { told(e) })
	})
}

// foreign prints the events of a log as another reader has them.
const foreign = `
import json, sys
import Evtx.Evtx as evtx
import xml.etree.ElementTree as tree
ns = "{http://schemas.microsoft.com/win/2004/08/events/event}"
out = []
with evtx.Evtx(sys.argv[1]) as log:
    for record in log.records():
        root = tree.fromstring(record.xml())
        system = root.find(ns + "System")
        data = root.find(ns + "EventData")
        own = root.find(ns + "UserData")
        data = own[0] if own is not None else data
        out.append({
            "Record": int(system.find(ns + "EventRecordID").text),
            "Provider": system.find(ns + "Provider").get("Name"),
            "ID": int(system.find(ns + "EventID").text),
            "Level": int(system.find(ns + "Level").text),
            "Channel": system.find(ns + "Channel").text,
            "Computer": system.find(ns + "Computer").text,
            "Time": system.find(ns + "TimeCreated").get("SystemTime"),
            "User": system.find(ns + "Security").get("UserID") or "",
            "Data": [[d.get("Name") or d.tag.rpartition("}")[2], d.text or ""]
                     for d in (data if data is not None else [])],
        })
json.dump(out, sys.stdout)
`

// TestAForeignReaderAgrees holds logs of ours against what another reader has
// of them, field by field.
func TestAForeignReaderAgrees(t *testing.T) {
	file := filepath.Join(t.TempDir(), "log.evtx")
	all := sample(400)
	if err := os.WriteFile(file, write.EventLog(all, 40, false), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("/usr/bin/python3", "-c", foreign, file)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		if strings.Contains(errs.String(), "No module named") && os.Getenv("CI") == "" {
			t.Skip("python3-evtx is not installed")
		}
		t.Fatalf("%v %s", err, errs.String())
	}
	var theirs []struct {
		Record                      uint64
		Provider, Channel, Computer string
		ID, Level                   int
		Time, User                  string
		Data                        [][2]string
	}
	if err := json.Unmarshal(out, &theirs); err != nil {
		t.Fatal(err)
	}
	ours, _ := readAll(t, write.EventLog(all, 40, false), everything)
	if len(theirs) != len(ours) {
		t.Fatalf("%d events, and ours are %d", len(theirs), len(ours))
	}
	for i, e := range ours {
		o := theirs[i]
		if o.Record != e.Record || o.Provider != e.Provider || o.ID != int(e.ID) ||
			o.Level != int(e.Level) || o.Channel != e.Channel || o.Computer != e.Computer ||
			o.User != e.User || len(o.Data) != len(e.Data) {
			t.Fatalf("event %d: %+v\n%s", i, o, told(e))
		}
		// it keeps microseconds, in either form
		if want := e.Time.Format("2006-01-02 15:04:05.00000"); !strings.HasPrefix(
			strings.Replace(o.Time, "T", " ", 1), want) {
			t.Fatalf("event %d: the time %s, ours %s", i, o.Time, want)
		}
		for k, f := range e.Data {
			got, want := o.Data[k][1], f.Value.Text()
			switch f.Value.Type {
			case TypeFiletime:
				got, want = strings.Replace(got, "T", " ", 1)[:24],
					strings.Replace(want, "T", " ", 1)[:24]
			case TypeHex32:
				var n uint32
				_, _ = fmt.Sscanf(got, "%v", &n)
				got, want = fmt.Sprint(n), fmt.Sprint(uint32(f.Value.bits()))
			case TypeBool:
				got = strings.ToLower(got)
			}
			if o.Data[k][0] != f.Name || got != strings.TrimSpace(want) && got != want {
				t.Fatalf("event %d, %s: %q, ours %q", i, f.Name, got, want)
			}
		}
	}
}

// BenchmarkRead finds a few events in a large log.
func BenchmarkRead(b *testing.B) {
	log := write.EventLog(sample(20000), 1, false)
	b.SetBytes(int64(len(log)))
	for b.Loop() {
		readAll(b, log, func(_ string, id uint16) bool { return id == 100 })
	}
}

// A counted file counts what is read of it, and tells its holes.
type counted struct {
	*os.File
	reads int
}

func (c *counted) ReadAt(p []byte, at int64) (int, error) {
	c.reads++
	return c.File.ReadAt(p, at)
}

// TestHolesArePassedOver reads a log that was given a size of many gigabytes,
// with events before and behind what it does not hold.
func TestHolesArePassedOver(t *testing.T) {
	all := []write.Event{{Provider: "P", ID: 1, Channel: "S", Data: []write.Field{
		{Name: "a", Value: write.Text("x")},
	}}}
	whole := write.EventLog(all, 1, false)
	file, err := os.Create(t.TempDir() + "/log.evtx")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for _, c := range []struct{ size, behind int64 }{{8 << 30, 0}, {20 << 30, 19<<30 + fileHead}} {
		if _, err := file.WriteAt(whole, 0); err != nil {
			t.Fatal(err)
		}
		want := 1
		if c.behind > 0 {
			if _, err := file.WriteAt(whole[fileHead:], c.behind); err != nil {
				t.Fatal(err)
			}
			want++
		}
		if err := file.Truncate(c.size); err != nil {
			t.Fatal(err)
		}
		n, f := 0, &counted{File: file}
		report, err := Read(f, c.size, func(string, uint16) bool { return true },
			func(Event) { n++ })
		if err != nil || n != want || report.Chunks != want || report.Damaged > 0 {
			t.Errorf("%d bytes: %d events, %+v, %v", c.size, n, report, err)
		}
		if f.reads > 20 && runtime.GOOS == "linux" {
			t.Errorf("%d bytes take %d reads", c.size, f.reads)
		}
	}
}

// TestTwiceAsBrokenTakesTwiceAsMuch reads logs with n and 2n damaged records,
// and counts reads and allocations.
func TestTwiceAsBrokenTakesTwiceAsMuch(t *testing.T) {
	cost := func(n int) (lost, reads int, allocations float64) {
		log := write.EventLog(sample(n), 1, false)
		rng := rand.New(rand.NewPCG(39, 3))
		for at := fileHead + chunkHead; at < len(log); at += 400 {
			log[at+rng.IntN(min(200, len(log)-at))] ^= 0x55
		}
		allocations = testing.AllocsPerRun(2, func() {
			f := &countedBytes{Reader: bytes.NewReader(log)}
			report, err := Read(f, int64(len(log)), everything, func(Event) {})
			if err != nil {
				t.Fatal(err)
			}
			lost, reads = report.Lost+report.Damaged, f.reads
		})
		return lost, reads, allocations
	}
	const n = 2000
	lost, reads, allocated := cost(n)
	lostTwice, readsTwice, allocatedTwice := cost(2 * n)
	if lost < 20 || lostTwice < lost {
		t.Errorf("%d and %d records are lost", lost, lostTwice)
	}
	if readsTwice > 2*reads+4 || allocatedTwice > 2.5*allocated {
		t.Errorf("twice as many records: %d reads instead of %d, %.0f allocations instead of %.0f",
			readsTwice, reads, allocatedTwice, allocated)
	}
}

type countedBytes struct {
	*bytes.Reader
	reads int
}

func (c *countedBytes) ReadAt(p []byte, at int64) (int, error) {
	c.reads++
	return c.Reader.ReadAt(p, at)
}
