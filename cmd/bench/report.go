package main

import (
	"fmt"
	"slices"
	"time"
)

// figure is a line of the table: what was measured, of which shape, beside what.
type figure struct{ shape, name, value, yardstick, other, ratio string }

// table prints the figures as they come.
type table struct {
	shape string
	wrong bool // something did not agree
}

func (t *table) line(f figure) {
	fmt.Printf("%-31s  %-30s  %-26s  %-18s  %-9s  %s\n", f.shape, f.name, f.value, f.yardstick, f.other, f.ratio)
}

func median(list []float64) float64 {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}

func ratio(list []float64) string { return fmt.Sprintf("%.2f", median(list)) }

// took writes the median of some durations in nanoseconds, to three digits.
func took(list []float64) string { return short(time.Duration(median(list))) }

func short(d time.Duration) string {
	for _, unit := range []time.Duration{time.Second, time.Millisecond, time.Microsecond} {
		if d >= unit {
			return d.Round(unit / 100).String()
		}
	}
	return d.String()
}
