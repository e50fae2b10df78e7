package cli

import (
	"context"

	"havvel/internal/app"
)

// takeMasters takes screenshots and clips of the running game.
func (a *console) takeMasters(ctx context.Context, k *app.Desk) error {
	_, b, err := app.Open(ctx, nil, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	return k.Masters(ctx, b)
}
