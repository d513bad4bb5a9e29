package redirect

import (
	"context"

	"nexlin/internal/plan"
)

type moving struct{ copying }

type movingOn struct{ copying }

type bringingBack struct{ copying }

type detaching struct{ basics }

func (j *detaching) Forward(ctx context.Context) error { return j.detach(ctx) }

func (j *detaching) Back(ctx context.Context) error { return j.attach(ctx) }

func (j *moving) Where() (plan.Position, error) { return j.whereMove() }

func (j *movingOn) Where() (plan.Position, error) { return j.whereMoveOn() }

func (j *bringingBack) Where() (plan.Position, error) { return j.whereBringBack() }
