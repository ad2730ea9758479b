//go:build !linux

package ring

func lock(string) (unlock func(), err error) { return func() {}, nil }
