// Chaos breaks a small farm at random, round after round, and has what came of
// it checked by reading files and tables: two services on one database, ten
// nodes, lines between them all that can be cut, and the practice renderer,
// which misbehaves on some of the nodes. `make chaos ROUNDS=n SEED=s` runs it.
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"sort"
	"syscall"
	"time"
)

func main() {
	rounds := flag.Int("rounds", 5, "rounds to run")
	seed := flag.Uint64("seed", 1, "seed of the first round")
	binary := flag.String("binary", "bin/vexillum", "the program")
	keep := flag.String("keep", "", "folder to work in and to keep (default: one that is removed)")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	err := run(ctx, *rounds, *seed, *binary, *keep)
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, rounds int, seed uint64, binary, dir string) (err error) {
	if binary, err = filepath.Abs(binary); err != nil {
		return err
	}
	if dir == "" {
		if dir, err = os.MkdirTemp("", "vexillum-chaos-"); err != nil {
			return err
		}
		defer func() {
			if err == nil {
				_ = os.RemoveAll(dir)
				return
			}
			fmt.Println("what there was is kept in", dir)
		}()
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o755); err != nil { // the database's account has to enter it
		return err
	}
	f := &farm{dir: dir, binary: binary, aside: map[string]bool{}}
	defer f.close()
	if err := f.build(ctx); err != nil {
		return err
	}
	met := map[string]int{}
	frames, began := 0, time.Now()
	for round := range rounds {
		s := seed + uint64(round)
		n, err := f.round(ctx, s, met)
		if err != nil {
			return fmt.Errorf("round %d of %d (seed %d): %w", round+1, rounds, s, err)
		}
		frames += n
		fmt.Printf("round %d (seed %d): %d frames, each once, whole and right\n", round+1, s, n)
	}
	fmt.Printf("\n%d rounds clean, %d frames, in %v\n", rounds, frames, time.Since(began).Round(time.Second))
	var names []string
	for name := range met {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Printf("  %5d  %s\n", met[name], name)
	}
	return nil
}

// round submits runs, breaks things while they are rendered, mends
// everything, waits for the end and checks.
func (f *farm) round(ctx context.Context, seed uint64, met map[string]int) (frames int, err error) {
	r := rand.New(rand.NewPCG(seed, 3))
	runs, err := f.submitSome(ctx, r, seed, met)
	if err != nil {
		return 0, err
	}
	vast, err := f.submitVast(ctx, seed)
	if err != nil {
		return 0, err
	}
	met["runs of 100,000 stretches"]++
	f.now = runs
	fmt.Printf("round with seed %d:", seed)
	for until := time.Now().Add(5*time.Second + time.Duration(r.IntN(5000))*time.Millisecond); time.Now().Before(until) && ctx.Err() == nil; {
		fault := faults[r.IntN(len(faults))]
		if did := fault.do(f, r); did {
			met[fault.name]++
			fmt.Printf(" %s,", fault.name)
		}
		f.raids(r, 1, met)
		time.Sleep(time.Duration(r.IntN(700)) * time.Millisecond)
	}
	fmt.Println(" all mended")
	if err := f.mend(ctx); err != nil {
		return 0, err
	}
	f.raids(r, 20, met) // now that somebody answers
	if err := f.takeBack(ctx); err != nil {
		return 0, err
	}
	if err := f.waitFor(ctx, runs, met); err != nil {
		return 0, err
	}
	if err := f.persist(
		ctx, fmt.Sprintf("cancel %d", vast), http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/cancel", vast), nil, nil,
	); err != nil {
		return 0, err
	}
	for _, run := range runs {
		frames += run.rendered()
	}
	if len(f.breaches) > 0 {
		return 0, fmt.Errorf("what hostile artists could do: %v", f.breaches)
	}
	return frames, f.check(ctx, runs, met)
}
