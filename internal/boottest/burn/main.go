//go:build linux

// Burn computes until it has used so many milliseconds of processor time.
// Fixture machines use it.
package main

import (
	"os"
	"strconv"
	"syscall"
	"time"
)

func main() {
	ms, err := strconv.Atoi(os.Args[1])
	if err != nil {
		os.Exit(2)
	}
	want := time.Duration(ms) * time.Millisecond
	sum := 0
	for {
		for i := range 50_000 {
			sum += i * i
		}
		var use syscall.Rusage
		if syscall.Getrusage(syscall.RUSAGE_SELF, &use) != nil ||
			time.Duration(use.Utime.Nano()+use.Stime.Nano()) >= want {
			os.Exit(min(0, sum))
		}
	}
}
