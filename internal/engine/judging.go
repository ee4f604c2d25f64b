package engine

import (
	"context"

	"github.com/riverqueue/river"

	"duskyharbor/internal/store"
)

// judgeArgs has devices of a site judged again.
type judgeArgs struct {
	Site    int64   `json:"site"`
	Devices []int64 `json:"devices"` // nil: all
}

// Kind names the job for River.
func (judgeArgs) Kind() string { return "judge" }

type judgeWorker struct {
	river.WorkerDefaults[judgeArgs]
	e *Engine
}

// Work judges them. A site that went meanwhile has no devices.
func (w *judgeWorker) Work(ctx context.Context, job *river.Job[judgeArgs]) error {
	return w.e.Judge(ctx, job.Args.Site, job.Args.Devices)
}

// QueueJudging has devices of a site judged soon, by any server, once the transaction that tx is of is kept;
// nil: all of the site. What nobody waits for is judged so: a whole site takes longer than a page may.
func (e *Engine) QueueJudging(ctx context.Context, tx *store.Store, site int64, devices []int64) error {
	if in, ok := tx.Tx(); ok {
		_, err := e.river.InsertTx(ctx, in, judgeArgs{site, devices}, nil)
		return err
	}
	_, err := e.river.Insert(ctx, judgeArgs{site, devices}, nil)
	return err
}
