package cli

import "calmdawn/internal/say"

// standing is calmdawn called alone: where this machine stands and what to do
// next.
func (a *app) standing() error {
	if a.json {
		return usage("calmdawn alone prints text; calmdawn list --json is for scripts")
	}
	l, err := a.lookAtBoots()
	if err != nil {
		return err
	}
	defer l.Close()
	say.ShowStanding(a.screen(), l, a.now(), a.Terminal && a.Ask)
	return nil
}
