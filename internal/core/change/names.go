package change

import (
	"fmt"
	"strings"
)

// Names says "change 3" or "changes 1, 2, 5 to 9 and 12".
func Names(changes []Change) string {
	var ids []string
	for i := 0; i < len(changes); i++ {
		last := i
		for last+1 < len(changes) && changes[last+1].ID == changes[last].ID+1 {
			last++
		}
		if last < i+2 {
			last = i
			ids = append(ids, fmt.Sprint(changes[i].ID))
			continue
		}
		ids = append(ids, fmt.Sprintf("%d to %d", changes[i].ID, changes[last].ID))
		i = last
	}
	switch {
	case len(changes) == 0:
		return "no change"
	case len(changes) == 1:
		return "change " + ids[0]
	case len(ids) == 1:
		return "changes " + ids[0]
	}
	return "changes " + strings.Join(ids[:len(ids)-1], ", ") + " and " + ids[len(ids)-1]
}
