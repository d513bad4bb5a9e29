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

// Moving is the job of a first move.
func Moving(m *execute.Execution) execute.Job { return &moving{execute.CopyingOf(m)} }

// MovingOn is the job of a move of what was moved before.
func MovingOn(m *execute.Execution) execute.Job { return &movingOn{execute.CopyingOf(m)} }

// BringingBack is the job of a bring-back.
func BringingBack(m *execute.Execution) execute.Job { return &bringingBack{execute.CopyingOf(m)} }

// Detaching is the job of a detach.
func Detaching(m *execute.Execution) execute.Job { return &detaching{execute.Basics{Execution: m}} }

// Steering is the job of a change of settings for what comes.
func Steering(m *execute.Execution) execute.Job { return &steering{execute.Basics{Execution: m}} }
