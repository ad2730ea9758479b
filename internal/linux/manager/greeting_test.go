package manager

import (
	"bytes"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// TestAFalseBusIsLeft has sockets answer that are no bus. One sends a line
// without an end, one says nothing, one greets well and then sends without end.
func TestAFalseBusIsLeft(t *testing.T) {
	flood := bytes.Repeat([]byte{'x'}, 64<<10)
	for name, serve := range map[string]func(net.Conn){
		"a line without an end": func(c net.Conn) {
			for {
				if _, err := c.Write(flood); err != nil {
					return
				}
			}
		},
		"nothing": func(c net.Conn) { _, _ = c.Read(make([]byte, 1<<10)); select {} },
		"a greeting, then noise": func(c net.Conn) {
			_, _ = c.Read(make([]byte, 1<<10))
			_, _ = c.Write([]byte("REJECTED EXTERNAL\r\n"))
			_, _ = c.Read(make([]byte, 1<<10))
			_, _ = c.Write([]byte("OK 1234\r\n"))
			_, _ = c.Read(make([]byte, 1<<10))
			for {
				if _, err := c.Write(flood); err != nil {
					return
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			socket := filepath.Join(t.TempDir(), "bus")
			l, err := net.Listen("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					go serve(c)
				}
			}()
			ended := make(chan error, 1)
			go func() {
				m, err := connect(socket, os.Geteuid(), os.Getegid())
				if err == nil {
					m.Close()
				}
				ended <- err
			}()
			select {
			case err := <-ended:
				if err == nil {
					t.Error("it was taken for a bus")
				}
			case <-time.After(2 * wait):
				t.Error("it was waited for without end")
			}
		})
	}
}

// TestTheGreetingIsBounded reads no more of a greeting than one can be long.
func TestTheGreetingIsBounded(t *testing.T) {
	ours, theirs := net.Pipe()
	go func() {
		for {
			if _, err := theirs.Write(make([]byte, 1000)); err != nil {
				return
			}
		}
	}()
	s, read := newSkimmer(ours), 0
	for {
		n, err := s.Read(make([]byte, 3000))
		if read += n; err != nil {
			if !errors.Is(err, errGreeting) || read != longestGreeting {
				t.Errorf("%d bytes were read: %v", read, err)
			}
			break
		}
	}
	ours.Close()
}
