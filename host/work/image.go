package work

import (
	"context"
	"strings"

	"northstake/core/wire"
	"northstake/host/engine"
)

// imageBefore is which image had the name before the step, "" for none.
type imageBefore struct {
	ID string `json:"id,omitempty"`
}

var _ = register("image", typed[wire.ImageWant, wire.ImageWork, imageBefore]{
	read: readImages, before: beforeImage, do: doImage, back: backImage,
})

func readImages(ctx context.Context, m *Host, wants []wire.ImageWant) ([]any, error) {
	e, trouble := engine.Of(ctx, m.Machine)
	return beside(func(ctx context.Context, _ *Host, w wire.ImageWant) (any, error) {
		if trouble != nil {
			return wire.ImageFound{Engine: trouble}, nil
		}
		return e.FoundImage(ctx, w)
	})(ctx, m, wants)
}

func beforeImage(ctx context.Context, m *Host, _ Job, w wire.ImageWork) (b imageBefore, err error) {
	e, err := engineOf(ctx, m)
	if err != nil {
		return b, err
	}
	b.ID, err = e.ImageID(ctx, w.Image)
	return b, err
}

func doImage(ctx context.Context, m *Host, j Job, w wire.ImageWork, _ imageBefore) (wire.StepState, error) {
	e, err := engineOf(ctx, m)
	if err != nil {
		return "", err
	}
	if w.Away {
		return wire.Done, e.RemoveImage(ctx, w.Image)
	}
	err = e.Fetch(ctx, w.ImageWant, func(text string) { j.Say("%s", text) })
	if err != nil && strings.Contains(err.Error(), "no space left on device") {
		return "", &wire.Fault{What: err.Error(), Fix: "make room where the engine keeps its images, and apply again"}
	}
	return wire.Done, err
}

// backImage gives the name to the image again that had it before. One that was not there
// before goes, unless a container is made of it by now; one that was taken away is fetched.
func backImage(ctx context.Context, m *Host, j Job, w wire.ImageWork, b imageBefore) error {
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	now, err := e.ImageID(ctx, w.Image)
	switch {
	case err != nil || now == b.ID:
		return err
	case b.ID == "":
		if err := e.RemoveImage(ctx, w.Image); err != nil {
			j.Say("left image %s on the host: %v", w.Image, err)
		}
		return nil
	case w.Away:
		return e.Fetch(ctx, w.ImageWant, func(string) {})
	}
	return e.Tag(ctx, b.ID, w.Image)
}
