//go:build linux

package boottest_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
)

// TestForecastTable prints what docs/forecast-accuracy.md holds, from the
// results that TestForecastAccuracy left.
func TestForecastTable(t *testing.T) {
	file := os.Getenv("CALMDAWN_FORECASTS")
	if file == "" {
		t.Skip("make bench-forecast measures, and prints this")
	}
	text, err := os.ReadFile(file)
	ok(t, err)
	var all []result
	for line := range strings.Lines(string(text)) {
		var r result
		ok(t, json.Unmarshal([]byte(line), &r))
		all = append(all, r)
	}
	var b strings.Builder
	fmt.Fprintln(&b, "| machine | processors | change | items | ready before | after | measured "+
		"saving | forecast (range) | error | replay |")
	fmt.Fprintln(&b, "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |")
	var wrong, settled []float64
	inside := 0
	for _, r := range all {
		measured := r.Now - r.Then
		fmt.Fprintf(&b, "| %s %d | %d | %s | %d | %.2f s | %.2f s | %.2f s | %.2f s (%.2f to "+
			"%.2f) | %.1f %% | %.1f %% |\n", r.Machine, r.Seed, r.Processors, r.What, r.Items,
			r.Now, r.Then, measured, r.Saving, r.Low, r.High, 100*r.wrong(), 100*r.Replay)
		wrong = append(wrong, r.wrong())
		settled = append(settled, abs(r.SettledNow-r.SettledThen-r.Settled)/r.SettledNow)
		if measured >= r.Low && measured <= r.High {
			inside++
		}
	}
	fmt.Fprintf(&b, "\n%d cases. Error as a share of the figure: %s. Inside the range: %d.\n"+
		"Error of settled: %s.\n", len(all), quantiles(wrong), inside, quantiles(settled))
	t.Log("\n" + b.String())
}

// quantiles tells the median, the 90th percentile and the worst, with 95 %
// intervals by resampling.
func quantiles(x []float64) string {
	if len(x) == 0 {
		return "none"
	}
	at := func(x []float64, q float64) float64 {
		x = slices.Sorted(slices.Values(x))
		return 100 * x[min(len(x)-1, int(q*float64(len(x))))]
	}
	rng := rand.New(rand.NewPCG(1, 1))
	told := func(q float64) string {
		var again []float64
		for range 2000 {
			y := make([]float64, len(x))
			for i := range y {
				y[i] = x[rng.IntN(len(x))]
			}
			again = append(again, at(y, q)/100)
		}
		return fmt.Sprintf("%.1f %% (%.1f to %.1f)", at(x, q), at(again, 0.025), at(again, 0.975))
	}
	return fmt.Sprintf("median %s, 90th percentile %s, worst %.1f %%", told(0.5), told(0.9),
		at(x, 1))
}
