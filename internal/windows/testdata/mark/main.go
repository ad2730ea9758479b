//go:build windows

// Mark is a service that writes its name down when it is started.
package main

import (
	"os"

	"golang.org/x/sys/windows/svc"
)

type service struct{ name string }

func (s service) Execute(
	_ []string,
	requests <-chan svc.ChangeRequest,
	status chan<- svc.Status,
) (bool, uint32) {
	f, err := os.OpenFile(`C:\marks.txt`, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = f.WriteString(s.name + "\n")
		f.Close()
	}
	if err != nil {
		return true, 1
	}
	status <- svc.Status{State: svc.Running, Accepts: svc.AcceptStop | svc.AcceptShutdown}
	for r := range requests {
		if r.Cmd == svc.Stop || r.Cmd == svc.Shutdown {
			return false, 0
		}
		status <- r.CurrentStatus
	}
	return false, 0
}

func main() {
	if err := svc.Run(os.Args[1], service{os.Args[1]}); err != nil {
		os.Exit(1)
	}
}
