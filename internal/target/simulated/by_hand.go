package simulated

import (
	"context"
	"encoding/json"
	"fmt"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// ByHand changes the access settings of a stand-in that was reached, as a keeper would who knows of no policy.
func ByHand(ctx context.Context, s target.System, how func(x *standin.Access)) error {
	reached, ok := s.(*system)
	if !ok {
		return fmt.Errorf("it is no stand-in")
	}
	v, err := reached.client.read(ctx)
	if err != nil {
		return err
	}
	if err := check(v.Settings); err != nil {
		return err
	}
	how(v.Settings)
	text, err := json.Marshal(v.Settings)
	if err != nil {
		return err
	}
	return reached.client.replace(ctx, &replacement{Was: v.Revision, Settings: text})
}
