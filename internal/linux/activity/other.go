//go:build !linux

package activity

// A watch is there on Linux only.
type watch struct{}

func newWatch() *watch                     { return nil }
func (*watch) close()                      {}
func (*watch) add(_, _ string)             {}
func (*watch) made(func(_, _ string)) bool { return false }

// A Counter is there on Linux only.
type Counter struct{}

// OpenCounter returns one that counts nothing.
func OpenCounter(string) Counter { return Counter{} }

// Is reports that nothing is counted.
func (Counter) Is() bool { return false }

// Read returns nothing.
func (Counter) Read([]byte) []byte { return nil }

// Close does nothing.
func (*Counter) Close() {}

// Owner knows nobody.
func (Counter) Owner() (string, bool) { return "", false }

// A lineage is there on Linux only.
type lineage struct{}

func openLineage(_, _ string) *lineage { return nil }
func (*lineage) close()                {}
func (*lineage) read() ([]turn, bool)  { return nil, true }
