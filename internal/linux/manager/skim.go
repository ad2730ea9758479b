package manager

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"net"
	"time"
)

// A skimmer is a connection to a bus that asks for properties and units itself,
// many at once. A manager tells three hundred properties of each unit where a
// dozen are wanted. To have the library decode them all, one answer after the
// other, costs ten times what the rest of the asking does. A recorder that must
// not disturb its boot cannot afford that. All other messages are the
// library's. They are those of the D-Bus specification, "Message Protocol".
type skimmer struct {
	net.Conn
	binary  bool // the lines of the greeting are over
	greeted int  // bytes of the greeting
	total   int  // bytes behind it
	room    []byte
	in      []byte            // the part of it that is read and not yet parted
	out     []byte            // of a message to hand on
	words   map[string]string // those that came before
	batch   batch
}

func newSkimmer(conn net.Conn) *skimmer {
	return &skimmer{Conn: conn, words: map[string]string{}}
}

// What a bus may send. A socket of a user may be anything that user made.
const (
	longestGreeting = 4 << 10
	largestMessage  = 8 << 20
	mostOfAll       = 64 << 20
	replyType       = 2
	errorType       = 3
	nameField       = 4 // of an error
	replyField      = 5
	signatureField  = 8
	// together is how long answers are let come together where more than a few
	// are due: to be woken costs more than to read one.
	together = 5 * time.Millisecond
	few      = 4
)

var (
	errMessage  = errors.New("the bus sent something that is not a message")
	errGreeting = errors.New("what answers there is not a bus: its greeting has no end")
	errTooMuch  = errors.New("the bus sent more than a service manager has to tell")
)

func (s *skimmer) Write(b []byte) (int, error) {
	n, err := s.Conn.Write(b)
	s.binary = s.binary || bytes.HasPrefix(b, []byte("BEGIN"))
	return n, err
}

func (s *skimmer) Read(b []byte) (int, error) {
	if !s.binary {
		left := longestGreeting - s.greeted
		if left <= 0 {
			return 0, errGreeting
		}
		n, err := s.Conn.Read(b[:min(len(b), left)])
		s.greeted += n
		return n, err
	}
	for len(s.out) == 0 {
		m, err := s.message()
		if err != nil {
			s.batch.fail(err)
			return 0, err
		}
		if !s.batch.take(m, s.words) {
			s.out = m
		}
	}
	n := copy(b, s.out)
	s.out = s.out[n:]
	return n, nil
}

// message reads one message whole.
func (s *skimmer) message() ([]byte, error) {
	const fixed = 16
	if err := s.fill(fixed); err != nil {
		return nil, err
	}
	order := orderOf(s.in)
	if order == nil {
		return nil, errMessage
	}
	size := fixed + aligned(uint64(order.Uint32(s.in[12:])), 8) + uint64(order.Uint32(s.in[4:]))
	if size > largestMessage {
		return nil, errMessage
	}
	if err := s.fill(int(size)); err != nil {
		return nil, err
	}
	m := s.in[:size]
	s.in = s.in[size:]
	return m, nil
}

// fill reads until n bytes are there. What was handed out before is no longer
// needed then.
func (s *skimmer) fill(n int) error {
	if len(s.in) >= n {
		return nil
	}
	if len(s.room) < n {
		s.room = make([]byte, max(n, 128<<10))
	}
	have := copy(s.room, s.in)
	if s.batch.due() > few {
		time.Sleep(together)
	}
	got, err := io.ReadAtLeast(s.Conn, s.room[have:], n-have)
	s.in = s.room[:have+got]
	if s.total += got; s.total > mostOfAll {
		return errTooMuch
	}
	return err
}

// A head is what the fields of a message tell.
type head struct {
	reply           uint32 // which call it answers; 0 for none
	signature, name string // name is that of an error
}

// headOf reads the fields of a message; a zero head where they do not fit.
func headOf(w *walk) (h head) {
	for w.at < len(w.b) && !w.bad {
		w.align(8)
		field := w.byte()
		switch kind := w.signature(); {
		case field == replyField && string(kind) == "u":
			h.reply = w.number()
		case field == signatureField && string(kind) == "g":
			h.signature = string(w.signature())
		case field == nameField && string(kind) == "s":
			h.name = string(w.text())
		default:
			w.passAll(kind, 1)
		}
	}
	if w.bad {
		return head{}
	}
	return h
}

func orderOf(m []byte) binary.ByteOrder {
	switch m[0] {
	case 'l':
		return binary.LittleEndian
	case 'B':
		return binary.BigEndian
	}
	return nil
}

func aligned(n, to uint64) uint64 { return (n + to - 1) / to * to }

// A walk goes over values of the wire format without decoding them. It turns
// bad where they do not fit, and then stays where it is.
type walk struct {
	b     []byte
	at    int
	order binary.ByteOrder
	words map[string]string
	bad   bool
}

func (w *walk) skip(n int) {
	if w.bad || n < 0 || n > len(w.b)-w.at {
		w.bad = true
		return
	}
	w.at += n
}

func (w *walk) align(to int) { w.skip((to - w.at%to) % to) }

func (w *walk) number() uint32 {
	w.align(4)
	begin := w.at
	if w.skip(4); w.bad {
		return 0
	}
	return w.order.Uint32(w.b[begin:])
}

func (w *walk) text() []byte {
	n := int(min(w.number(), math.MaxInt32-1))
	begin := w.at
	if w.skip(n + 1); w.bad {
		return nil
	}
	return w.b[begin : begin+n]
}

func (w *walk) byte() byte {
	begin := w.at
	if w.skip(1); w.bad {
		return 0
	}
	return w.b[begin]
}

func (w *walk) signature() []byte {
	n := int(w.byte())
	begin := w.at
	if w.skip(n + 1); w.bad {
		return nil
	}
	return w.b[begin : begin+n]
}

// value passes a value that tells its own signature.
func (w *walk) value() { w.passAll(w.signature(), 1) }

func (w *walk) passAll(types []byte, depth int) {
	for len(types) > 0 && !w.bad {
		types = w.pass(types, depth)
	}
}

// pass passes one complete type and returns the types after it. Of types that
// hold others the specification allows 64 in each other.
func (w *walk) pass(types []byte, depth int) []byte {
	one := complete(types)
	if one == 0 || depth > 64 {
		w.bad = true
		return nil
	}
	switch types[0] {
	case 'y':
		w.skip(1)
	case 'n', 'q':
		w.align(2)
		w.skip(2)
	case 'b', 'i', 'u', 'h':
		w.number()
	case 'x', 't', 'd':
		w.align(8)
		w.skip(8)
	case 's', 'o':
		w.text()
	case 'g':
		w.signature()
	case 'v':
		w.passAll(w.signature(), depth+1)
	case 'a':
		n := w.number()
		w.align(alignment(types[1]))
		w.skip(int(min(n, math.MaxInt32)))
	default: // a structure
		w.align(8)
		w.passAll(types[1:one-1], depth+1)
	}
	return types[one:]
}

// complete returns how many letters the first complete type has; 0 where there
// is none.
func complete(types []byte) int {
	open := 0
	for i, c := range types {
		switch c {
		case 'a':
			continue
		case '(', '{':
			open++
		case ')', '}':
			if open--; open < 0 {
				return 0
			}
		case 'y', 'b', 'n', 'q', 'i', 'u', 'x', 't', 'd', 's', 'o', 'g', 'v', 'h':
		default:
			return 0
		}
		if open == 0 {
			return i + 1
		}
	}
	return 0
}

func alignment(kind byte) int {
	switch kind {
	case 'y', 'g', 'v':
		return 1
	case 'n', 'q':
		return 2
	case 'x', 't', 'd', '(', '{':
		return 8
	}
	return 4
}
