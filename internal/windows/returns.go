package windows

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/service"
)

//go:embed returns.toml
var returnsText []byte

// A returns says who may switch services on again that were switched off.
type returns struct {
	Services []string `toml:"services"` // keys, in any case
	System   bool     `toml:"system"`   // all that are parts of the system
	By       string   `toml:"by"`       // a noun phrase
}

// readReturns reads returns.toml, which is built in, once.
var readReturns = sync.OnceValue(func() []returns {
	var all struct{ Returns []returns }
	if err := toml.Unmarshal(returnsText, &all); err != nil {
		panic(fmt.Sprintf("returns.toml, which is built in, cannot be read: %v", err))
	}
	return all.Returns
})

// tellReturns tells services who may switch them on again.
func tellReturns(items []item.Item) {
	for i := range items {
		it := &items[i]
		if it.Mechanism != service.Mechanism {
			continue
		}
		for _, r := range readReturns() {
			if r.System && it.System || slices.ContainsFunc(r.Services, func(key string) bool {
				return strings.EqualFold(key, it.Native)
			}) {
				it.Returns = r.By
				break
			}
		}
	}
}
