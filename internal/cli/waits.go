package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/waits"
	"calmdawn/internal/ownfile"
	"calmdawn/internal/render"
	"calmdawn/internal/say"
)

// drawnBeside is how many things are named beside a stretch in a picture;
// --json and --csv have all.
const drawnBeside = 6

// showBoot shows one boot: what usable, or ready, waited for, one stretch after
// the other, and what worked beside each.
func (a *app) showBoot(s say.Page, b boot.Boot, v bootsView) error {
	told := say.OneBoot{Boot: b, Guessed: !b.Ordered()}
	if told.Guessed || len(b.Programs) > 0 && v.picture == "" {
		l, err := a.look()
		if err != nil {
			return err
		}
		defer l.Close()
		if told.Guessed {
			told.Boot = l.Order([]boot.Boot{b})[0]
		}
		told.Use = l.LoginUse(b)
	}
	if v.picture == "" {
		say.ShowBoot(s, told)
		return nil
	}
	if b.Unwritten {
		return fmt.Errorf("the picture cannot be drawn: of the boot of %s, %s", say.Day(b.Began),
			say.Outcome(b))
	}
	r := render.Waits(waits.Of(told.Boot, drawnBeside))
	return a.drawPicture(s, v.picture, func(f io.Writer, form render.Form) error {
		return r.WritePicture(f, form, "The boot of "+say.Day(b.Began),
			say.Capital(say.Outcome(b))+". "+say.SourcesOf(b))
	})
}

// drawPicture writes a picture into a file, in the form that its name tells.
func (a *app) drawPicture(
	s say.Page,
	file string,
	draw func(io.Writer, render.Form) error,
) error {
	form := render.Form(strings.ToLower(strings.TrimPrefix(filepath.Ext(file), ".")))
	if form != render.PNG && form != render.SVG {
		return usage("a picture's name ends in .png or .svg, which %q does not", file)
	}
	if err := ownfile.Write(file, func(w io.Writer) error { return draw(w, form) }); err != nil {
		return fmt.Errorf("the picture cannot be written: %w", err)
	}
	s.Line("Drawn into %s.", render.Clean(file))
	return nil
}
