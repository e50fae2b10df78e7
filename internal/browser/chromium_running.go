package browser

import (
	"context"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/profiler"
	"github.com/chromedp/cdproto/runtime"
)

// lookEvery is the time between two looks at which script runs.
const lookEvery = 20 * time.Millisecond

// lately is how much of a profile tells what runs now, in looks.
const lately = 100

func (t *chromiumTab) Running(ctx context.Context) ([]Place, error) {
	if _, err := call(ctx, t, runtime.TerminateExecution, cdp.Empty{}); err != nil {
		return nil, err
	}
	r, err := call(ctx, t, profiler.Stop, cdp.Empty{})
	if err != nil {
		return nil, err
	}
	return busiest(r.Profile), nil
}

// busiest are the calls in which most of the last looks found the page, the innermost first.
func busiest(p *profiler.Profile) []Place {
	nodes, above := map[int64]*profiler.ProfileNode{}, map[int64]int64{}
	for _, n := range p.Nodes {
		nodes[n.ID] = n
		for _, c := range n.Children {
			above[c] = n.ID
		}
	}
	times, most := map[int64]int{}, int64(0)
	for _, id := range p.Samples[max(0, len(p.Samples)-lately):] {
		if n := nodes[id]; n != nil && n.CallFrame != nil && n.CallFrame.URL != "" {
			times[id]++
			if most == 0 || times[id] > times[most] {
				most = id
			}
		}
	}
	var list []Place
	for id := most; id != 0; id = above[id] {
		n := nodes[id]
		if n == nil || n.CallFrame == nil || n.CallFrame.URL == "" {
			continue
		}
		at := Place{n.CallFrame.URL, int(n.CallFrame.LineNumber) + 1, int(n.CallFrame.ColumnNumber) + 1, n.CallFrame.FunctionName}
		var ticks int64
		for _, tick := range n.PositionTicks {
			if tick.Ticks > ticks {
				ticks, at.Line, at.Column = tick.Ticks, int(tick.Line), 0
			}
		}
		list = append(list, at)
	}
	return list
}
