package manager

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
)

// told is a bus's answer with properties of many kinds.
func told(t testing.TB, order binary.ByteOrder) []byte {
	t.Helper()
	type pair struct {
		A string
		B uint32
	}
	return reply(t, order, firstCall, "a{sv}", map[string]dbus.Variant{
		"After":        dbus.MakeVariant([]string{"a.service", "basic.target"}),
		"CPUUsageNSec": dbus.MakeVariant(uint64(1 << 40)),
		"Type":         dbus.MakeVariant("oneshot"),
		"Remote":       dbus.MakeVariant(true),
		"NRestarts":    dbus.MakeVariant(uint32(3)),
		"Class":        dbus.MakeVariant(pair{"user", 1}), // not of a kind that is asked for
		"b":            dbus.MakeVariant(true),
		"y":            dbus.MakeVariant(byte(3)),
		"n":            dbus.MakeVariant(int16(-3)),
		"d":            dbus.MakeVariant(2.5),
		"o":            dbus.MakeVariant(dbus.ObjectPath("/a/b")),
		"g":            dbus.MakeVariant(dbus.ParseSignatureMust("a(su)")),
		"as":           dbus.MakeVariant([]pair{{"x", 1}, {"yy", 2}}),
		"m": dbus.MakeVariant(map[string]dbus.Variant{
			"k": dbus.MakeVariant([]uint64{}),
		}),
		"p":  dbus.MakeVariant(pair{"z", 9}),
		"v":  dbus.MakeVariant(dbus.MakeVariant(int32(5))),
		"ay": dbus.MakeVariant([]byte{1, 2, 3}),
	})
}

// reply makes the answer of a bus to a call.
func reply(t testing.TB, order binary.ByteOrder, to uint32, signature string, body any) []byte {
	t.Helper()
	return encoded(t, order, &dbus.Message{
		Type: dbus.TypeMethodReply,
		Headers: map[dbus.HeaderField]dbus.Variant{
			dbus.FieldReplySerial: dbus.MakeVariant(to),
			dbus.FieldSender:      dbus.MakeVariant(":1.2"),
			dbus.FieldSignature:   dbus.MakeVariant(dbus.ParseSignatureMust(signature)),
		},
		Body: []any{body},
	})
}

func encoded(t testing.TB, order binary.ByteOrder, m *dbus.Message) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := m.EncodeTo(&b, order); err != nil {
		t.Fatal(err)
	}
	b.Bytes()[8] = 1 // a serial, which a connection would have set
	return b.Bytes()
}

// asked asks as many questions as there are answers of a bus, which come in
// small parts and in this order. It returns what is made of them, and what the
// library would be handed.
func asked(
	t *testing.T,
	questions int,
	answers ...[]byte,
) (all []answer, others []byte, err error) {
	t.Helper()
	ours, theirs := net.Pipe()
	s := newSkimmer(ours)
	s.binary = true
	go func() {
		theirs.Read(make([]byte, 64<<10)) // all calls come in one
		for part := range slices.Chunk(slices.Concat(answers...), 37) {
			theirs.Write(part)
		}
		theirs.Close()
	}()
	ended := make(chan struct{})
	go func() { // as the library does
		others, _ = io.ReadAll(s)
		close(ended)
	}()
	all, err = s.ask(slices.Repeat([]question{{"a.b", "/a", "a.b.C", nil}}, questions)...)
	<-ended
	return all, others, err
}

func TestWhatIsWantedIsRead(t *testing.T) {
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		second := reply(t, order, firstCall+1, "v", dbus.MakeVariant(uint64(5)))
		third := reply(t, order, firstCall+2, "v", dbus.MakeVariant(int32(5)))
		all, _, err := asked(t, 3, third, told(t, order), second)
		if err != nil {
			t.Fatal(err)
		}
		have := all[0].have
		n, is := have.amount("CPUUsageNSec")
		remote, _ := have.truth("Remote")
		if len(have) != 5 || !is || n != 1<<40 || have.text("Type") != "oneshot" ||
			!slices.Equal(have.texts("After"), []string{"a.service", "basic.target"}) ||
			!remote || have.number("NRestarts") != 3 {
			t.Errorf("%v: %v", order, have)
		}
		if all[1].have.number("") != 5 {
			t.Errorf("%v: one property alone: %v", order, all[1])
		}
		if len(all[2].have) != 0 {
			t.Errorf("%v: a property of a kind that is not asked for: %v", order, all[2])
		}
	}
}

func TestListedUnitsAreRead(t *testing.T) {
	type unit struct {
		Name, Title, Load, Active, Sub, Follows string
		Path                                    dbus.ObjectPath
		Job                                     uint32
		Kind                                    string
		At                                      dbus.ObjectPath
	}
	units := []unit{
		{"a.service", "A", "loaded", "active", "running", "", "/a", 1, "start", "/job"},
		{"b.service", "", "masked", "inactive", "dead", "a.service", "/b", 0, "", "/"},
	}
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		all, _, err := asked(t, 1, reply(t, order, firstCall, "a(ssssssouso)", units))
		if err != nil || !slices.Equal(all[0].units, []listed{
			{"a.service", "loaded", "active", "/a"},
			{"b.service", "masked", "inactive", "/b"},
		}) {
			t.Errorf("%v: %v %v", order, all, err)
		}
	}
}

// TestWhatIsNoAnswerIsToldApart sends a refusal, an answer that does not fit
// its signature, one to nobody's call, and one that is told twice. Then it ends
// the connection.
func TestWhatIsNoAnswerIsToldApart(t *testing.T) {
	little := binary.LittleEndian
	refusal := encoded(t, little, &dbus.Message{
		Type: dbus.TypeError,
		Headers: map[dbus.HeaderField]dbus.Variant{
			dbus.FieldReplySerial: dbus.MakeVariant(uint32(firstCall)),
			dbus.FieldErrorName:   dbus.MakeVariant("a.b.Gone"),
			dbus.FieldSignature:   dbus.MakeVariant(dbus.ParseSignatureMust("s")),
		},
		Body: []any{"no such unit"},
	})
	all, _, err := asked(t, 1, refusal)
	if err != nil || all[0].err == nil || all[0].err.Error() != "no such unit (a.b.Gone)" {
		t.Errorf("a refusal became %v, %v", all, err)
	}
	cut := told(t, little)
	little.PutUint32(cut[4:], little.Uint32(cut[4:])-1)
	if all, _, err = asked(t, 1, cut[:len(cut)-1]); err != nil || all[0].err != errMessage {
		t.Errorf("an answer that is cut became %v, %v", all, err)
	}
	once := reply(t, little, firstCall, "v", dbus.MakeVariant(uint64(1)))
	again := reply(t, little, firstCall, "v", dbus.MakeVariant(uint64(2)))
	nobodys := reply(t, little, 7, "v", dbus.MakeVariant(uint64(3)))
	last := reply(t, little, firstCall+1, "s", "a name")
	all, others, err := asked(t, 2, nobodys, once, again, last)
	if err != nil || all[0].have.number("") != 1 || all[1].err != errOther ||
		!bytes.Equal(others, slices.Concat(nobodys, again)) {
		t.Errorf("%v, %v; handed on: %q", all, err, others)
	}
	if all, _, err = asked(t, 2, once); err == nil {
		t.Errorf("the connection ended, and that became %v", all)
	}
}

// FuzzSkim: whatever a bus sends in answer, nothing beyond its end is read.
func FuzzSkim(f *testing.F) {
	f.Add(told(f, binary.LittleEndian))
	f.Add(told(f, binary.BigEndian))
	f.Add(reply(f, binary.LittleEndian, firstCall, "v", dbus.MakeVariant([]string{"a", "b"})))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := newSkimmer(nil)
		s.batch = batch{
			first:   firstCall,
			answers: make([]answer, 2),
			left:    2,
			done:    make(chan struct{}),
		}
		if len(b) < 16 || orderOf(b) == nil {
			return
		}
		order := orderOf(b)
		size := 16 + aligned(uint64(order.Uint32(b[12:])), 8) + uint64(order.Uint32(b[4:]))
		if size <= uint64(len(b)) {
			s.batch.take(slices.Clip(b[:size]), s.words)
		}
	})
}

// BenchmarkAnswers reads a unit's answer, and has the library decode the same.
func BenchmarkAnswers(b *testing.B) {
	m := told(b, binary.LittleEndian)
	for b.Loop() {
		s := newSkimmer(nil)
		s.batch = batch{
			first:   firstCall,
			answers: make([]answer, 1),
			left:    1,
			done:    make(chan struct{}),
		}
		begin := time.Now()
		s.batch.take(m, s.words)
		ours := time.Since(begin)
		if _, err := dbus.DecodeMessage(bytes.NewReader(m)); err != nil {
			b.Fatal(err)
		}
		theirs := time.Since(begin) - ours
		b.ReportMetric(float64(theirs)/float64(ours), "library/ours")
	}
}
