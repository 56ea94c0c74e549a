package system

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// foam is a simulation: what a frame is depends on the one before, and every fourth frame
// it leaves its state. Each frame that it reckons is noted.
const foam = `#!/bin/sh
[ "$1" = --version ] && echo foam 2.5 && exit
first=$1 last=$2 state=$3 noted=$4 value=1
[ -n "$state" ] && value=$(cat "$state")
for f in $(seq "$first" "$last"); do
	echo "frame $f begins"
	sleep 0.25
	value=$(( (value * 7 + f) % 10007 ))
	echo "$f $1" >> "$noted"
	echo "frame $f is $value" > "foam.$f.txt"
	[ $((f % 4)) = 0 ] && echo $value > "state.$f.sim"
done
exit 0
`

const foamRecipe = `recipe: 2
name: foam
title: Foam
mode: whole
stop: kill
repeatable: true
program: %s
probe: {arguments: ["--version"], version: 'foam (\S+)'}
scenes: [".practice"]
picture: data
ending: .txt
frame_file: '^foam\.(\d+)\.txt$'
outputs:
  state: {file: '^state\.(\d+)\.sim$', picture: data, ending: .sim, optional: true}
checkpoint: state
arguments: ["{first}", "{last}", "{checkpoint}", "%s"]
read: {begins: '^frame (\d+) begins'}
`

// TestASimulationGoesOnFromItsCheckpoint kills the machines that reckon a simulation,
// once where the place is seen and once where it is not: others go on behind the newest
// state, and what comes out is what an undisturbed run gives.
func TestASimulationGoesOnFromItsCheckpoint(t *testing.T) {
	t.Parallel()
	dir := tools(t)
	program, noted := filepath.Join(dir, "foam"), filepath.Join(dir, "noted")
	if err := os.WriteFile(program, []byte(foam), 0o755); err != nil {
		t.Fatal(err)
	}
	// Each lease has an account of its own, and all of them note.
	if err := os.WriteFile(noted, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(noted, 0o666); err != nil {
		t.Fatal(err)
	}
	f := newFarmWith(t, map[string]string{"foam.yaml": fmt.Sprintf(foamRecipe, program, noted)})
	f.signIn()
	f.scene("tank.practice", "practice: 1\npicture: salt\n")
	const count = 26
	first := f.join("kiln-01", "--renderers", "foam")
	id := f.submit(wire.Submit{Job: "foam", Recipe: "foam", Scene: "tank.practice", Frames: fmt.Sprintf("1-%d", count)})
	f.done(id, 6)
	first.end(syscall.SIGTERM) // its work is given back
	second := f.join("kiln-02", "--renderers", "foam", "--upload")
	f.done(id, 14)
	second.end(syscall.SIGTERM)
	f.join("kiln-03", "--renderers", "foam")
	run := f.ended(id)
	if run.State != "done" || run.DoneCount != count {
		t.Fatalf("the run is %s with %d frames: %s", run.State, run.DoneCount, run.Why)
	}
	value := 1
	for frame := 1; frame <= count; frame++ {
		value = (value*7 + frame) % 10007
		name := filepath.Join(f.dir, "frames", run.Output, fmt.Sprintf("foam.%04d.txt", frame))
		text, err := os.ReadFile(name)
		if want := fmt.Sprintf("frame %d is %d\n", frame, value); err != nil || string(text) != want {
			t.Errorf("frame %d holds %q, want %q: %v", frame, text, want, err)
		}
	}
	text, err := os.ReadFile(noted)
	if err != nil {
		t.Fatal(err)
	}
	begins := map[string]bool{}
	lines := strings.Fields(string(text))
	for i := 1; i < len(lines); i += 2 {
		begins[lines[i]] = true
	}
	if len(begins) != 3 || len(lines)/2 > count+2*4+2 {
		t.Errorf("the simulation began with %v, and reckoned %d frames for %d", begins, len(lines)/2, count)
	}
	for at := range begins {
		if at != "1" && (at == "0" || (at[len(at)-1]-'0')%2 == 0) { // behind every fourth
			t.Errorf("it went on with frame %s, which is behind no state", at)
		}
	}
}
