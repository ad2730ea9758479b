package events

import (
	"encoding/binary"
	"strings"
	"unicode/utf16"
)

// The tokens of BinXml ([MS-EVEN6] 2.2.12); 0x40 says that more follow.
const (
	tokenEnd       = 0x00
	tokenOpen      = 0x01
	tokenClose     = 0x02
	tokenEmpty     = 0x03
	tokenEndOf     = 0x04
	tokenValue     = 0x05
	tokenAttribute = 0x06
	tokenCData     = 0x07
	tokenChar      = 0x08
	tokenEntity    = 0x09
	tokenTarget    = 0x0A
	tokenPIData    = 0x0B
	tokenTemplate  = 0x0C
	tokenNormal    = 0x0D
	tokenOptional  = 0x0E
	tokenFragment  = 0x0F
	tokenMore      = 0x40
)

// A part is a piece of content: a text, an element, or what an event puts into
// a place of its template.
type part struct {
	text    string
	element *element
	place   int // -1 for the others
}

// An element is one of a template, or of an event that has none.
type element struct {
	name  string
	attrs []attr
	parts []part
}

type attr struct {
	name  string
	parts []part
}

// A template is the form of events of one kind, of which a chunk has each once.
type template struct {
	root *element
	// Where the head of an event stands in it: each is a text, or a place.
	provider, id []part
}

// An instance is an event, or a part of one, by its template.
type instance struct {
	of     *template
	values []Value
	depth  int
	c      *chunk
}

// A parser reads tokens of a chunk from a place on.
type parser struct {
	c       *chunk
	at, end int
	nodes   int
	// elements as they are, in a value: these may not say what they depend on
	bare bool
}

func (p *parser) fail(what string) error { return &fault{p.at, what} }

// need reports an error unless so many bytes are left.
func (p *parser) need(n int) error {
	if n < 0 || p.at+n > p.end {
		return p.fail("it ends too soon")
	}
	return nil
}

func (p *parser) u8() (byte, error) {
	if err := p.need(1); err != nil {
		return 0, err
	}
	p.at++
	return p.c.data[p.at-1], nil
}

func (p *parser) u16() (uint16, error) {
	if err := p.need(2); err != nil {
		return 0, err
	}
	p.at += 2
	return p.c.u16(p.at - 2), nil
}

func (p *parser) u32() (uint32, error) {
	if err := p.need(4); err != nil {
		return 0, err
	}
	p.at += 4
	return p.c.u32(p.at - 4), nil
}

// wide reads a text of so many UTF-16 units.
func (p *parser) wide(n int) (string, error) {
	if err := p.need(2 * n); err != nil {
		return "", err
	}
	p.at += 2 * n
	return decode(p.c.data[p.at-2*n : p.at]), nil
}

func decode(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}

// name reads a name, which stands here if it is used for the first time in the
// chunk.
func (p *parser) name() (string, error) {
	offset, err := p.u32()
	if err != nil {
		return "", err
	}
	const head = 8 // the next one's place, a hash, the length
	at := int(offset)
	if at < 0 || at+head > len(p.c.data) {
		return "", p.fail("a name stands outside")
	}
	n := int(p.c.u16(at + 6))
	if at+head+2*n+2 > len(p.c.data) {
		return "", p.fail("a name is too long")
	}
	if at == p.at {
		if err := p.need(head + 2*n + 2); err != nil {
			return "", err
		}
		p.at += head + 2*n + 2
	}
	if known, ok := p.c.names[offset]; ok {
		return known, nil
	}
	text := decode(p.c.data[at+head : at+head+2*n])
	p.c.names[offset] = text
	return text, nil
}

// instance reads an event, or a part of one: a template and what it is filled
// with, or elements as they are.
func (p *parser) instance(depth int) (*instance, error) {
	if depth > deepest {
		return nil, p.fail("templates are too deep in each other")
	}
	i := &instance{depth: depth, c: p.c}
	for {
		if err := p.need(1); err != nil {
			return nil, err
		}
		switch token := p.c.data[p.at]; token &^ tokenMore {
		case tokenFragment:
			if err := p.need(4); err != nil {
				return nil, err
			}
			p.at += 4
		case tokenTemplate:
			p.at++
			return i, p.filled(i)
		case tokenOpen:
			root, err := p.element(depth)
			if err != nil {
				return nil, err
			}
			i.of = newTemplate(root)
			return i, nil
		default:
			return nil, p.fail("it is not an event")
		}
	}
}

// filled reads what a template is filled with.
func (p *parser) filled(i *instance) error {
	if err := p.need(9); err != nil {
		return err
	}
	at := p.c.u32(p.at + 5)
	p.at += 9
	t, size, err := p.c.template(at, i.depth)
	if err != nil {
		return err
	}
	i.of = t
	if int(at) == p.at { // it stands here
		if err := p.need(size); err != nil {
			return err
		}
		p.at += size
	}
	n, err := p.u32()
	if err != nil {
		return err
	}
	if err := p.need(4 * int(min(n, 1<<16))); err != nil || n > 1<<12 {
		return p.fail("it has too many places")
	}
	table := p.at
	p.at += 4 * int(n)
	for k := range int(n) {
		size, kind := int(p.c.u16(table+4*k)), p.c.data[table+4*k+2]
		if err := p.need(size); err != nil {
			return err
		}
		v := Value{Type: kind, Data: p.c.data[p.at : p.at+size], at: p.at}
		i.values = append(i.values, v)
		p.at += size
	}
	return nil
}

const templateHead = 24 // the next one's place, a GUID, the size

// template returns the template that stands at a place, and its size there.
func (c *chunk) template(at uint32, depth int) (*template, int, error) {
	if int64(at)+templateHead > int64(len(c.data)) || at < chunkHead {
		return nil, 0, &fault{int(at), "a template stands outside"}
	}
	size := int(c.u32(int(at)+20)) + templateHead
	if size < templateHead || int(at)+size > len(c.data) {
		return nil, 0, &fault{int(at), "a template is too long"}
	}
	if t, known := c.templates[at]; known {
		if t == nil {
			return nil, 0, &fault{int(at), "it is not a template"}
		}
		return t, size, nil
	}
	c.templates[at] = nil
	p := &parser{c: c, at: int(at) + templateHead, end: int(at) + size}
	i, err := p.instance(depth + 1)
	if err != nil {
		return nil, 0, err
	}
	c.templates[at] = i.of
	return i.of, size, nil
}

// element reads one, with all in it.
func (p *parser) element(depth int) (*element, error) {
	if p.nodes++; depth > deepest || p.nodes > mostNodes {
		return nil, p.fail("there are too many elements")
	}
	token, err := p.u8()
	if err != nil {
		return nil, err
	}
	if err := p.need(6); err != nil { // what it depends on, its size
		return nil, err
	}
	if p.at += 6; p.bare && p.c.u16(p.at-6) != 0xFFFF {
		p.at -= 2
	}
	e := &element{}
	if e.name, err = p.name(); err != nil {
		return nil, err
	}
	if token&tokenMore != 0 {
		if err := p.attributes(e); err != nil {
			return nil, err
		}
	}
	token, err = p.u8()
	switch {
	case err != nil:
		return nil, err
	case token == tokenEmpty:
		return e, nil
	case token != tokenClose:
		return nil, p.fail("an element does not begin")
	}
	for {
		if err := p.need(1); err != nil {
			return nil, err
		}
		switch p.c.data[p.at] &^ tokenMore {
		case tokenEndOf:
			p.at++
			return e, nil
		case tokenOpen:
			sub, err := p.element(depth + 1)
			if err != nil {
				return nil, err
			}
			e.parts = append(e.parts, part{element: sub, place: -1})
		default:
			one, err := p.content()
			if err != nil {
				return nil, err
			}
			e.parts = append(e.parts, one)
		}
	}
}

func (p *parser) attributes(e *element) error {
	if _, err := p.u32(); err != nil { // their size
		return err
	}
	for {
		token, err := p.u8()
		if err != nil {
			return err
		}
		if token&^tokenMore != tokenAttribute || len(e.attrs) > mostNodes {
			return p.fail("it is not an attribute")
		}
		a := attr{}
		if a.name, err = p.name(); err != nil {
			return err
		}
		for p.at < p.end && isContent(p.c.data[p.at]) {
			one, err := p.content()
			if err != nil {
				return err
			}
			a.parts = append(a.parts, one)
		}
		e.attrs = append(e.attrs, a)
		if p.at >= p.end || p.c.data[p.at]&^tokenMore != tokenAttribute {
			return nil
		}
	}
}

func isContent(token byte) bool {
	switch token &^ tokenMore {
	case tokenValue, tokenCData, tokenChar, tokenEntity, tokenNormal, tokenOptional:
		return true
	}
	return false
}

// content reads a text, or a place.
func (p *parser) content() (part, error) {
	one := part{place: -1}
	token, err := p.u8()
	if err != nil {
		return one, err
	}
	switch token &^ tokenMore {
	case tokenValue:
		kind, err := p.u8()
		if err != nil || kind != TypeText {
			return one, p.fail("a value in a template is not text")
		}
		return p.sized()
	case tokenCData, tokenPIData:
		return p.sized()
	case tokenChar:
		r, err := p.u16()
		one.text = string(rune(r))
		return one, err
	case tokenEntity:
		name, err := p.name()
		one.text = map[string]string{
			"amp": "&", "lt": "<", "gt": ">", "quot": `"`, "apos": "'",
		}[name]
		return one, err
	case tokenTarget:
		_, err := p.name()
		return one, err
	case tokenNormal, tokenOptional:
		n, err := p.u16()
		if err != nil {
			return one, err
		}
		_, err = p.u8() // the type; the one that the value has counts
		one.place = int(n)
		return one, err
	}
	return one, p.fail("the token is not known")
}

func (p *parser) sized() (part, error) {
	one := part{place: -1}
	n, err := p.u16()
	if err == nil {
		one.text, err = p.wide(int(n))
	}
	return one, err
}

// newTemplate notes where the head of an event stands in one.
func newTemplate(root *element) *template {
	t := &template{root: root}
	for _, system := range root.parts {
		if system.element == nil || system.element.name != "System" {
			continue
		}
		for _, one := range system.element.parts {
			switch e := one.element; {
			case e == nil:
			case e.name == "EventID":
				t.id = e.parts
			case e.name == "Provider":
				for _, a := range e.attrs {
					if a.name == "Name" {
						t.provider = a.parts
					}
				}
			}
		}
	}
	return t
}

// text is what parts come to: texts, and values that are none of elements.
func (i *instance) text(parts []part) string {
	if len(parts) == 1 && parts[0].place < 0 && parts[0].element == nil {
		return parts[0].text
	}
	all := ""
	for _, one := range parts {
		switch {
		case one.element != nil:
		case one.place < 0:
			all += one.text
		case one.place < len(i.values):
			all += i.values[one.place].Text()
		}
		if len(all) > mostText {
			return all[:mostText]
		}
	}
	return all
}

// head is who wrote the event, and its id.
func (i *instance) head() (provider string, id uint16, ok bool) {
	if len(i.of.id) == 0 {
		return "", 0, false
	}
	if first := i.of.id[0]; first.place >= 0 && first.place < len(i.values) {
		n, known := i.values[first.place].Number()
		return i.text(i.of.provider), uint16(n), known
	}
	v := textValue(i.text(i.of.id))
	n, known := v.Number()
	return i.text(i.of.provider), uint16(n), known
}

// fill takes from an instance what an event tells.
func (i *instance) fill(e *Event) error {
	for _, one := range i.of.root.parts {
		switch sub := one.element; {
		case sub == nil && one.place >= 0 && one.place < len(i.values):
			if err := i.nested(i.values[one.place], e); err != nil {
				return err
			}
		case sub == nil:
		case sub.name == "System":
			i.system(sub, e)
		default:
			if err := i.data(sub, e, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

func (i *instance) system(of *element, e *Event) {
	for _, one := range of.parts {
		sub := one.element
		if sub == nil {
			continue
		}
		switch sub.name {
		case "Level":
			v := textValue(i.text(sub.parts))
			n, _ := v.Number()
			e.Level = uint8(n)
		case "Channel":
			e.Channel = i.text(sub.parts)
		case "Computer":
			e.Computer = i.text(sub.parts)
		case "Security":
			for _, a := range sub.attrs {
				if a.name == "UserID" {
					e.User = i.text(a.parts)
				}
			}
		}
	}
}

// data takes the elements that name data, or are named as data.
func (i *instance) data(of *element, e *Event, depth int) error {
	if depth > deepest || len(e.Data) > mostNodes {
		return &fault{0, "an event tells too much"}
	}
	leaf := true
	for _, one := range of.parts {
		switch {
		case one.element != nil:
			leaf = false
			if err := i.data(one.element, e, depth+1); err != nil {
				return err
			}
		case one.place >= 0 && one.place < len(i.values) && i.values[one.place].Type == typeXML:
			leaf = false
			if err := i.nested(i.values[one.place], e); err != nil {
				return err
			}
		}
	}
	if !leaf || depth == 0 && len(of.parts) == 0 {
		return nil
	}
	f := Field{Name: of.name}
	if of.name == "Data" {
		f.Name = ""
	}
	for _, a := range of.attrs {
		if a.name == "Name" {
			f.Name = i.text(a.parts)
		}
	}
	f.Value = textValue(i.text(of.parts))
	if len(of.parts) == 1 && of.parts[0].place >= 0 && of.parts[0].place < len(i.values) {
		f.Value = i.values[of.parts[0].place].kept()
	}
	if f.Value.Type != TypeText|typeArray {
		e.Data = append(e.Data, f)
		return nil
	}
	// a list of texts stands for as many data
	for text := range strings.SplitSeq(strings.TrimSuffix(decode(f.Value.Data), "\x00"), "\x00") {
		if len(e.Data) == mostNodes {
			break
		}
		e.Data = append(e.Data, Field{f.Name, textValue(text)})
	}
	return nil
}

// nested takes a part of an event that stands in a value.
func (i *instance) nested(v Value, e *Event) error {
	if v.Type != typeXML || len(v.Data) == 0 {
		return nil
	}
	p := &parser{c: i.c, at: v.at, end: v.at + len(v.Data), bare: true}
	sub, err := p.instance(i.depth + 1)
	if err != nil {
		return err
	}
	return sub.data(sub.of.root, e, 0)
}
