package differing

import (
	"context"

	"hiddengate/internal/clock"
)

// OneByOne tells the differences class by class, whatever pays.
func (p *Pair) OneByOne(ctx context.Context, since clock.Instant, each func(Difference) bool) error {
	p.begin(since)
	return p.tell(ctx, p.alikes(), each)
}

// Together tells those of all classes together that can be looked at so, and counts these.
func (p *Pair) Together(ctx context.Context, since clock.Instant, each func(Difference) bool) (int, error) {
	p.begin(since)
	classes, d := p.alikes(), newDiffer(p)
	q := d.question(classes)
	all := d.together(q)
	if err := all.look(ctx); err != nil {
		return 0, err
	}
	return len(q.plain), d.tell(ctx, classes, all, each)
}
