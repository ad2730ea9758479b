package machine

import (
	"strings"
	"syscall"
)

// A step is where a walk stands below the machine's root, which it never
// leaves.
type step interface {
	// enter goes to a name where the walk stands; last says that nothing
	// follows. At a link that is to be followed it stays, and returns its text.
	enter(name string, last bool) (target string, isLink bool, err error)
	up()  // to the folder above; at the root it stays
	top() // to the root
}

// walk goes along p, one name at a time. Its links stay in the machine; too
// many of them are [syscall.ELOOP].
func walk(p string, at step) error {
	todo := strings.Split(p, "/")
	for links := 0; len(todo) > 0; {
		name := todo[0]
		todo = todo[1:]
		switch name {
		case "", ".":
			continue
		case "..":
			at.up()
			continue
		}
		target, isLink, err := at.enter(name, strings.Join(todo, "") == "")
		switch {
		case err != nil:
			return err
		case !isLink:
			continue
		}
		if links++; links > maxLinks {
			return syscall.ELOOP
		}
		if strings.HasPrefix(target, "/") {
			at.top()
		}
		todo = append(strings.Split(target, "/"), todo...)
	}
	return nil
}
