package view

import "strings"

// margin is how many light squares stand around a code (ISO/IEC 18004 asks for four).
const margin = 4

// Squares draws a square of dark and light squares, two rows to a line. Where there is no colour, a dark terminal shows
// the light ones.
func (p *Page) Squares(size int, dark func(x, y int) bool) {
	is := func(x, y int) bool {
		return min(x, y) >= 0 && max(x, y) < size && dark(x, y)
	}
	for y := -margin; y < size+margin; y += 2 {
		var b strings.Builder
		for x := -margin; x < size+margin; x++ {
			upper, lower := is(x, y), is(x, y+1)
			if !p.Color {
				upper, lower = !upper, !lower
			}
			b.WriteRune(
				map[[2]bool]rune{{true, true}: '█', {true, false}: '▀', {false, true}: '▄', {}: ' '}[[2]bool{upper, lower}],
			)
		}
		p.Line("%s", p.Paint(Ink, b.String()))
	}
}
