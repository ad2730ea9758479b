package manager

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/godbus/dbus/v5"
)

const (
	getAll = "org.freedesktop.DBus.Properties.GetAll"
	get    = "org.freedesktop.DBus.Properties.Get"
	// atOnce is how many answers are waited for at once: the bus refuses who
	// waits for more than 128.
	atOnce = 100
	// Our own calls have numbers from here on; the library begins at 1.
	firstCall = 1 << 31
)

// A question is a call that asks for properties or units.
type question struct {
	to     string
	at     dbus.ObjectPath
	method string
	words  []any
}

// An answer holds one of the three.
type answer struct {
	have  properties
	units []listed
	err   error // the other side's refusal, or what it sent cannot be read
	came  bool
}

// A batch is what was asked at once. The zero value waits for nothing.
type batch struct {
	mu      sync.Mutex
	first   uint32 // number of the first call
	answers []answer
	left    int
	done    chan struct{}
	broken  error // the connection is over
}

// ask asks all that at once, and waits for all answers, which come in the same
// order. The error says that the connection is over.
func (s *skimmer) ask(questions ...question) ([]answer, error) {
	b := &s.batch
	b.mu.Lock()
	b.first = max(b.first+uint32(len(b.answers)), firstCall)
	b.answers, b.left = make([]answer, len(questions)), len(questions)
	b.done = make(chan struct{})
	broken := b.broken
	b.mu.Unlock()
	if broken != nil {
		return nil, broken
	}
	var calls bytes.Buffer
	for i, q := range questions {
		begin := calls.Len()
		if err := q.message().EncodeTo(&calls, binary.LittleEndian); err != nil {
			b.fail(err)
			return nil, err
		}
		binary.LittleEndian.PutUint32(calls.Bytes()[begin+8:], b.first+uint32(i))
	}
	if _, err := s.Conn.Write(calls.Bytes()); err != nil {
		b.fail(err)
	}
	<-b.done
	b.mu.Lock()
	defer b.mu.Unlock()
	if slices.ContainsFunc(b.answers, func(a answer) bool { return !a.came }) {
		return nil, b.broken
	}
	return b.answers, nil
}

func (q question) message() *dbus.Message {
	dot := strings.LastIndexByte(q.method, '.')
	headers := map[dbus.HeaderField]dbus.Variant{
		dbus.FieldPath:        dbus.MakeVariant(q.at),
		dbus.FieldDestination: dbus.MakeVariant(q.to),
		dbus.FieldInterface:   dbus.MakeVariant(q.method[:dot]),
		dbus.FieldMember:      dbus.MakeVariant(q.method[dot+1:]),
	}
	if len(q.words) > 0 {
		headers[dbus.FieldSignature] = dbus.MakeVariant(dbus.SignatureOf(q.words...))
	}
	return &dbus.Message{Type: dbus.TypeMethodCall, Headers: headers, Body: q.words}
}

// due is how many answers are still to come.
func (b *batch) due() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.left
}

// fail ends the waiting: the connection is over.
func (b *batch) fail(err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.broken = err
	if b.left > 0 {
		b.left = 0
		close(b.done)
	}
}

// take takes a message that answers a call of the batch; false for any other.
func (b *batch) take(m []byte, words map[string]string) bool {
	order := orderOf(m)
	fields := 16 + int(order.Uint32(m[12:]))
	if m[1] != replyType && m[1] != errorType {
		return false
	}
	h := headOf(&walk{b: m[:fields], at: 16, order: order})
	b.mu.Lock()
	defer b.mu.Unlock()
	i := h.reply - b.first
	if b.left == 0 || h.reply < b.first || i >= uint32(len(b.answers)) || b.answers[i].came {
		return false
	}
	body := m[aligned(uint64(fields), 8):]
	b.answers[i] = answerOf(h, &walk{b: body, order: order, words: words}, m[1] == errorType)
	b.answers[i].came = true
	if b.left--; b.left == 0 {
		close(b.done)
	}
	return true
}

// answerOf reads the body of an answer.
func answerOf(h head, w *walk, refused bool) (a answer) {
	if refused {
		text := []byte(nil)
		if strings.HasPrefix(h.signature, "s") {
			text = w.text()
		}
		const most = 300
		return answer{err: fmt.Errorf("%.*s (%.*s)", most, text, most, h.name)}
	}
	switch h.signature {
	case "a{sv}":
		a.have = w.properties()
	case "v":
		if v, ok := w.wanted(); ok {
			a.have = properties{{"", v}}
		}
	case "a(ssssssouso)":
		a.units = w.units()
	default:
		return answer{err: errOther}
	}
	if w.bad || w.at != len(w.b) {
		return answer{err: errMessage}
	}
	return a
}

var errOther = errors.New("the answer is not what was asked for")
