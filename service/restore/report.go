package restore

import (
	"context"
	"fmt"
	"time"

	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Report says what is to be known of a restore: what was lost, which way back was
// taken and why, each step with its times, what an outside probe measured, what
// changed, what is left. store.ErrWorkState for other work.
func (w *Service) Report(ctx context.Context, work store.Work) (wire.Report, error) {
	out := wire.Report{Work: work.ID, Instance: work.Instance, Operator: work.Operator, State: string(work.State),
		Outcome: work.Outcome, BeganAt: work.CreatedAt, EndedAt: work.EndedAt,
		Lost: []string{}, Steps: []wire.ReportStep{}, Seen: []wire.UpSpan{}, Changed: []string{},
		Withdrawn: []string{}, Checks: []wire.CheckResult{}, Left: []string{}, Charges: []wire.Charge{},
		GoesOn: []string{}}
	if !w.KindOf(work.Kind).Restores {
		return out, store.ErrWorkState
	}
	var in restoring
	var d restoreKept
	if err := door.Decode(work.Input, &in); err != nil {
		return out, err
	}
	if err := door.Decode(work.Data, &d); err != nil {
		return out, err
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return out, err
	}
	out.LoginUser, out.New, out.Route, out.Why, out.Lost = i.LoginUser, in.New, in.Route, in.Why,
		append(out.Lost, in.Lost...)
	steps, err := w.Store.WorkSteps(ctx, work.ID)
	if err != nil {
		return out, err
	}
	for _, s := range steps {
		out.Steps = append(out.Steps, wire.ReportStep{Name: s.Name, Title: s.Title, State: s.State,
			BeganAt: s.BeganAt, EndedAt: s.EndedAt})
	}
	knocks, err := w.Store.Knocks(ctx, work.ID)
	if err != nil {
		return out, err
	}
	for _, k := range knocks {
		out.Seen = append(out.Seen, wire.UpSpan{From: k.FromAt, To: k.ToAt, Up: k.Up})
	}
	until := time.Now()
	if work.EndedAt != nil {
		until = *work.EndedAt
	}
	if x := d.Restore; x != nil {
		out.InAt = x.InAt
		if x.InAt != nil {
			until = *x.InAt
		}
		out.Changed, out.Withdrawn = append(out.Changed, x.Changed...), append(out.Withdrawn, x.Withdrawn...)
		for _, c := range x.Checks {
			out.Checks = append(out.Checks, c.show())
		}
		out.Left = append(out.Left, x.Left...)
		w.charges(ctx, w.CloudOf(i), &out, x, steps)
		if x.Copy != nil {
			kept, err := w.Store.KeptOf(ctx, i.ID)
			if err != nil {
				return out, err
			}
			for _, k := range kept {
				if k.CloudID == x.Copy.Old.CloudID {
					out.GoesOn = append(out.GoesOn, fmt.Sprintf("%s is kept, stopped, until %s: %.4g %s a week for its volume; back to it: "+
						"plumlatch work cancel %d; remove it: plumlatch work go-on %d", k.CloudID, times.Show(k.Until), k.WeekPrice, k.Currency,
						k.Work, k.Work))
				}
			}
		}
	}
	out.Down, out.NotSeen = measured(out.Seen, work.CreatedAt, until)
	return out, nil
}

// measured adds up for how long the outside probe was not answered, and for how
// long nobody looked, up to a time.
func measured(seen []wire.UpSpan, from, until time.Time) (down, notSeen float64) {
	at := from
	for _, s := range seen {
		if s.From.After(until) {
			break
		}
		to := s.To
		if to.After(until) {
			to = until
		}
		if !s.Up {
			down += to.Sub(s.From).Seconds()
		}
		if gap := s.From.Sub(at).Seconds(); gap > 1 {
			notSeen += gap
		}
		at = to
	}
	if gap := until.Sub(at).Seconds(); gap > 1 {
		notSeen += gap
	}
	return down, notSeen
}

// charges says what the cloud asks for what the work used, by its price list.
func (w *Service) charges(ctx context.Context, of cloud.Driver, out *wire.Report, x *restored, steps []store.WorkStep) {
	if x.Rescue.Size == "" {
		return
	}
	terms, err := of.Terms(ctx)
	if err != nil {
		out.Left = append(out.Left, "what the rescue instance cost is not known: the cloud does not answer")
		return
	}
	var began, ended time.Time
	for _, s := range steps {
		if s.Name == "rescue" && s.BeganAt != nil {
			began = *s.BeganAt
		}
		if s.Name == "dismiss" && s.EndedAt != nil {
			ended = *s.EndedAt
		}
	}
	if x.Rescue.Shared != 0 {
		if x.Rescue.HadAt != nil {
			began = *x.Rescue.HadAt
		}
		if row, err := w.Store.SharedByID(ctx, x.Rescue.Shared); err != nil || row.GoneAt == nil {
			out.GoesOn = append(out.GoesOn,
				fmt.Sprintf("the rescue instance %s is there for the other parts of work %d, and goes with it: %g "+
					"%s an hour", x.Rescue.Name, x.Rescue.KeyOf, terms.InstanceHour[x.Rescue.Size], terms.Currency))
		}
	}
	if x.Rescue.Gone && ended.After(began) {
		hours := ended.Sub(began).Hours()
		out.Charges = append(out.Charges,
			wire.Charge{What: fmt.Sprintf("rescue instance %s (%s), %s", x.Rescue.Name, x.Rescue.Size,
				ended.Sub(began).Round(time.Second)), Amount: hours * terms.InstanceHour[x.Rescue.Size],
				Currency: terms.Currency})
	}
	if !x.Rescue.Gone && x.Rescue.CloudID != "" && x.Rescue.Shared == 0 {
		out.GoesOn = append(out.GoesOn, fmt.Sprintf("the rescue instance %s is still there: %g %s an hour",
			x.Rescue.Name, terms.InstanceHour[x.Rescue.Size], terms.Currency))
	}
}
