package redirect

import (
	"context"

	"nexlin/internal/execute"
	"nexlin/internal/plan"
)

type moving struct{ execute.Copying }

type movingOn struct{ execute.Copying }

type bringingBack struct{ execute.Copying }

type detaching struct{ execute.Basics }

func (j *detaching) Forward(ctx context.Context) error { return j.detach(ctx) }

func (j *detaching) Back(ctx context.Context) error { return j.attach(ctx) }

func (j *moving) Where() (plan.Position, error) { return j.WhereMove() }

func (j *movingOn) Where() (plan.Position, error) { return j.WhereMoveOn() }

func (j *bringingBack) Where() (plan.Position, error) { return j.WhereBringBack() }
