package ledger

import (
	"os"
	"os/signal"
	"syscall"
)

// hold keeps the signals by which people and systems end programs from ending
// this one amid edits, until release is called.
func (l *Ledger) hold() (release func()) {
	waiting := make(chan os.Signal, 4)
	for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(s) {
			signal.Notify(waiting, s)
		}
	}
	return func() {
		signal.Stop(waiting)
		select {
		case l.caught = <-waiting:
		default:
		}
	}
}

// Caught returns the signal that was held off while edits were made; nil for
// none. Who carries out several changes stops after it.
func (l *Ledger) Caught() os.Signal { return l.caught }
