package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"vexillum/internal/standin"
	"vexillum/internal/wire"
)

// tell makes a channel through which all that the farm says goes to a stand-in.
func (f *farm) tell(ctx context.Context) error {
	var channel wire.Channel
	in := wire.ChannelSet{Of: "webhook", To: f.receiver.Hook(), Urgent: true}
	if err := f.admin.Do(ctx, http.MethodPut, "/api/v1/channels/chat", in, &channel); err != nil {
		return err
	}
	f.receiver.Expect(channel.Secret)
	f.receiver.AnyClock() // that of one service is wrong
	return nil
}

// ask calls the service once and does not mind if it is away: people try again later.
func (f *farm) ask(method, path string, in, out any) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return f.admin.Do(ctx, method, path, in, out) == nil
}

// actOnHand does something about something that needs a hand.
func (f *farm) actOnHand(r *rand.Rand) bool {
	var list []wire.NeedHand
	if !f.ask(http.MethodGet, "/api/v1/hands", nil, &list) || len(list) == 0 {
		return false
	}
	in := wire.HandAct{
		Hands: []int64{
			list[r.IntN(len(list))].ID,
		}, Do: []string{"take", "leave", "snooze", "wake", "resolve", "reopen"}[r.IntN(6)],
	}
	if until := time.Now().Add(48 * time.Hour); in.Do == "snooze" { // by the clock of either service
		in.Until = &until
	}
	return f.ask(http.MethodPost, "/api/v1/hand-acts", in, nil)
}

// park sets a frame of a run aside.
func (f *farm) park(r *rand.Rand) bool {
	s := f.now[r.IntN(len(f.now))]
	in := wire.FramesAct{Do: "park", Frames: fmt.Sprint(s.first + r.IntN(s.count)*s.step), Note: "for a while"}
	return f.ask(http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/frame-acts", s.id), in, nil)
}

// holdRun holds a run until everything is mended.
func (f *farm) holdRun(r *rand.Rand) bool {
	s := f.now[r.IntN(len(f.now))]
	return f.ask(http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/hold?reason=chaos", s.id), nil, nil)
}

// sideline sidelines a node until everything is mended.
func (f *farm) sideline(r *rand.Rand) bool {
	name := nodeName(r.IntN(nodes))
	f.aside[name] = true
	in := wire.NodeAct{Do: "sideline", Reason: "chaos", Selection: wire.Selection{Where: "name==" + name}}
	return f.ask(http.MethodPost, "/api/v1/node-acts", in, nil)
}

// byHand lets a node render a frame by hand, beside what it has to do.
func (f *farm) byHand(r *rand.Rand) bool {
	s := f.now[r.IntN(len(f.now))]
	path := fmt.Sprintf("/api/v1/runs/%d/frames/%d/trials", s.id, s.first+r.IntN(s.count)*s.step)
	return f.ask(http.MethodPost, path, wire.RenderByHand{Node: nodeName(r.IntN(nodes))}, nil)
}

// spoilReceiver lets what notices are sent to fail in some way for a while.
func (f *farm) spoilReceiver(r *rand.Rand) bool {
	f.receiver.Behave([]standin.Mode{standin.Slow, standin.Failing, standin.Sending, standin.Refusing}[r.IntN(4)])
	f.later(r, 6*time.Second, func() { f.receiver.Behave(standin.Well) })
	return true
}

// takeBack takes back what people have done.
func (f *farm) takeBack(ctx context.Context) error {
	f.receiver.Behave(standin.Well)
	for name := range f.aside {
		in := wire.NodeAct{Do: "release", Selection: wire.Selection{Where: "name==" + name}}
		if err := f.persist(ctx, "release "+name, http.MethodPost, "/api/v1/node-acts", in, nil); err != nil {
			return err
		}
	}
	clear(f.aside)
	for _, s := range f.now {
		if err := f.goesOn(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// goesOn releases a run that is held, and lets parked frames of it be tried again.
func (f *farm) goesOn(ctx context.Context, s submitted) error {
	var run wire.Run
	path := fmt.Sprintf("/api/v1/runs/%d", s.id)
	if err := f.persist(ctx, "look at "+s.job, http.MethodGet, path, nil, &run); err != nil {
		return err
	}
	if run.State == "held" && s.means != alwaysWrong {
		if err := f.persist(ctx, "release "+s.job, http.MethodPost, path+"/release", nil, nil); err != nil {
			return err
		}
	}
	return f.persist(
		ctx, "retry "+s.job, http.MethodPost, "/api/v1/retries", wire.Retrying{Runs: []int64{s.id}}, nil,
	)
}

// stopWrong waits until a run all of whose frames fail is held, or waits by itself until it is
// known whether its place is gone, and ends it.
func (f *farm) stopWrong(ctx context.Context, s submitted) error {
	path := fmt.Sprintf("/api/v1/runs/%d", s.id)
	var run wire.Run
	if err := f.until(ctx, s.job+" is held", func() bool {
		_ = f.admin.Do(ctx, http.MethodGet, path, nil, &run)
		return run.State == "held" || run.EndedAt != nil || strings.Contains(run.Why, "waits for the place")
	}); err != nil {
		return fmt.Errorf("%w: it is %s (%s)", err, run.State, run.Why)
	}
	if run.EndedAt != nil {
		return fmt.Errorf("%s, of which every frame fails, is %s and not held: %s", s.job, run.State, run.Why)
	}
	return f.persist(ctx, "cancel "+s.job, http.MethodPost, path+"/cancel", nil, nil)
}

// checkWrong looks what a run has cost of which every frame fails.
func checkWrong(count func(query string, args ...any) int, s submitted, note func(string, ...any), met map[string]int) {
	tries := count(`SELECT count(*) FROM attempt WHERE run = $1 AND cause = 'missing file'`, s.id)
	met["most tries of a wrong run"] = max(met["most tries of a wrong run"], tries)
	if tries > mostOfWrong {
		note("%s, of which every frame fails, was tried %d times", s.job, tries)
	}
	if n := count(`SELECT count(*) FROM run WHERE id = $1 AND state = 'cancelled'`, s.id); n != 1 {
		note("%s is not cancelled", s.job)
	}
}

// mostOfWrong bounds the tries of a run of which every frame fails while everything else
// fails as well: those that were under way when it was held are among them.
const mostOfWrong = 25

// checkTold looks whether the end of every run was told: once, genuine, and of the right run.
// What could not be told at once comes within a while.
func (f *farm) checkTold(
	ctx context.Context, runs []submitted, count func(query string, args ...any) int, note func(string, ...any),
	met map[string]int,
) error {
	want := map[int64]string{}
	for _, s := range runs {
		switch s.means {
		case oneGap:
			want[s.id] = "run.done_with_gaps"
		case allWell:
			want[s.id] = "run.done"
		}
	}
	told := func() map[int64][]string {
		out, ids := map[int64][]string{}, map[string]bool{}
		for _, m := range f.receiver.Messages() {
			if ids[m.ID] { // it was not known that it had arrived
				met["notices sent twice, by one number"]++
				continue
			}
			ids[m.ID] = true
			if !m.Genuine {
				note("the notice %s is not signed as it should be", m.ID)
			}
			for _, n := range noticesIn(m.Text, note) {
				out[n.run] = append(out[n.run], n.what)
			}
		}
		return out
	}
	if err := f.until(ctx, "the ends of all runs are told", func() bool {
		have := told()
		for id, what := range want {
			if !strings.Contains(strings.Join(have[id], " ")+" ", what+" ") {
				return false
			}
		}
		return true
	}); err != nil {
		return err
	}
	for id, all := range told() {
		times := map[string]int{}
		for _, what := range all {
			times[what]++
			met["notices"]++
		}
		ended := count(
			`SELECT count(*) FROM event WHERE run = $1 AND kind = 'run moved' AND body->>'state' = $2`, id,
			strings.ReplaceAll(strings.TrimPrefix(want[id], "run."), "_", " "),
		)
		if n := times[want[id]]; want[id] != "" && n != ended {
			note("run %d has ended %d times so that %s is told, and it was told %d times", id, ended, want[id], n)
		}
	}
	return nil
}

type heard struct {
	run  int64
	what string
}

// noticesIn reads a message by what docs/notices.md says of it.
func noticesIn(text string, note func(string, ...any)) (out []heard) {
	type notice struct {
		Event string `json:"event"`
		Run   int64  `json:"run"`
	}
	var body struct {
		Type string `json:"type"`
		Data struct {
			notice
			Notices []notice `json:"notices"`
		} `json:"data"`
	}
	if err := json.Unmarshal([]byte(text), &body); err != nil {
		note("a notice is not JSON: %v", err)
		return nil
	}
	types := map[string]string{"done": "run.done", "done with gaps": "run.done_with_gaps"}
	for _, n := range append(body.Data.Notices, body.Data.notice) {
		if n.Run != 0 {
			out = append(out, heard{n.Run, types[n.Event]})
		}
	}
	return out
}
