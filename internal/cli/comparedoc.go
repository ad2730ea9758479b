package cli

import (
	"fmt"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/compare"
)

// compareCSV writes a line a boot, of both sides and left out.
func (a *app) compareCSV(c comparison) error {
	head := []string{"side", "id", "began"}
	for _, m := range compare.Measures {
		unit := " (s)"
		if m.Bytes {
			unit = " (bytes)"
		}
		head = append(head, m.Name+unit)
	}
	rows := [][]string{append(head, "left out since", "simulated")}
	for _, side := range []struct {
		name  string
		boots []boot.Boot
	}{{"before", c.Sides.Before}, {"after", c.Sides.After}, {"left out", c.Sides.LeftOut}} {
		for _, b := range side.boots {
			row := []string{side.name, b.ID, b.Began.UTC().Format(time.RFC3339)}
			for _, m := range compare.Measures {
				text := ""
				switch n, ok := m.Of(b); {
				case ok && m.Bytes:
					text = fmt.Sprint(n)
				case ok:
					text = fmt.Sprintf("%.3f", time.Duration(n).Seconds())
				}
				row = append(row, text)
			}
			rows = append(rows, append(row, strings.Join(b.Odd, "; "), fmt.Sprint(b.Simulated)))
		}
	}
	return a.writeCSV(rows)
}
