package review

import (
	"errors"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"

	"calmdawn/internal/notebook"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
)

// askRule asks what the technician advises on items from now on, on every
// machine. That is no decision of the plan, and nothing of the machine changes.
func (m *Model) askRule() {
	if len(m.meant()) == 0 {
		m.say(render.Warn, "There is nothing in the list to have a rule for.")
		return
	}
	if m.reading {
		m.say(render.Plain, "Boots are being read; give it a moment.")
		return
	}
	m.ask("Your rule, as keep: why", "keep: ", func(text string) ([]tea.Cmd, error) {
		return nil, m.rule(text)
	})
}

// rule keeps a rule as it was typed: an advice and its reason. A bare none
// takes the rule away.
func (m *Model) rule(text string) error {
	word, why, _ := strings.Cut(text, ":")
	word, why = strings.TrimSpace(word), strings.TrimSpace(why)
	advised, ok := notebook.Advices[word]
	switch {
	case !ok && word != "none":
		return errors.New("begin with keep, go, wait, or none for no rule")
	case ok && why == "":
		return errors.New("say why, behind a colon: it stands in the report")
	}
	all := m.meant()
	file := ""
	for _, i := range all {
		d := notebook.Decided{
			Items: []string{m.v.Items[i].ID}, Advice: string(advised), Reason: why,
			Made: m.o.Now().Format(time.DateOnly),
		}
		var err error
		if file, _, err = notebook.Decide(d); err != nil {
			return err
		}
	}
	next, err := m.v.Rejudged()
	if err != nil {
		return err
	}
	m.see(next)
	m.unmark()
	of := say.Count(len(all), "item", "items")
	if word == "none" {
		m.say(render.Good, "No rule of yours in %s is for %s any more.", render.Clean(file), of)
	} else {
		m.say(render.Good, "From now on: %s, for %s. It stands in %s.", advised, of,
			render.Clean(file))
	}
	return nil
}
