package store

import (
	"encoding/json"
	"time"

	"vexillum/internal/core/farm"
)

// columns gathers Records of one of the frequent kinds as typed arrays, which
// the database reads far faster than JSON.
type columns interface {
	add(r farm.Record, seq int64)
	statement() (query string, args []any)
}

type leasesOpened struct {
	id, node, run, session, ask []int64
	given, reason, share        []string
	at                          []time.Time
	race                        []bool
}

func (c *leasesOpened) add(record farm.Record, _ int64) {
	r := record.(farm.LeaseOpened)
	c.id, c.node, c.run = append(c.id, int64(r.Lease)), append(c.node, int64(r.Node)), append(c.run, int64(r.Run))
	c.session, c.ask = append(c.session, r.Session), append(c.ask, r.Ask)
	c.given, c.reason, c.at = append(c.given, r.Frames.Multirange()), append(c.reason, r.Reason), append(c.at, r.At)
	c.race = append(c.race, r.Race)
	share := ""
	if !r.Share.Whole() || r.Share.MemoryBytes > 0 || len(r.Share.Devices) > 0 {
		if data, err := json.Marshal(r.Share); err == nil { // it holds nothing that JSON cannot
			share = string(data)
		}
	}
	c.share = append(c.share, share)
}

func (c *leasesOpened) statement() (string, []any) {
	return `INSERT INTO lease (id, node, run, session, ask, given, reason, opened_at, share, race)
		SELECT id, node, run, session, ask, given::int4multirange, reason, at, NULLIF(share, '')::jsonb, race
		FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::text[], $7::text[],
		$8::timestamptz[], $9::text[], $10::boolean[])
			AS r(id, node, run, session, ask, given, reason, at, share, race)`,
		[]any{c.id, c.node, c.run, c.session, c.ask, c.given, c.reason, c.at, c.share, c.race}
}

type leasesEnded struct {
	id     []int64
	reason []string
	at     []time.Time
}

func (c *leasesEnded) add(record farm.Record, _ int64) {
	r := record.(farm.LeaseEnded)
	c.id, c.reason, c.at = append(c.id, int64(r.Lease)), append(c.reason, r.Reason), append(c.at, r.At)
}

func (c *leasesEnded) statement() (string, []any) {
	return `UPDATE lease SET ended_at = r.at, end_reason = r.reason
		FROM unnest($1::bigint[], $2::text[], $3::timestamptz[]) AS r(id, reason, at) WHERE lease.id = r.id`,
		[]any{c.id, c.reason, c.at}
}

type framesAccepted struct {
	run, lease, node, bytes, seq []int64
	memory                       []int64
	frame, launch                []int32
	hash                         []string
	files, suspect               []*string
	startup, render, check       []float64
	fetchedBytes                 []int64
	fetchedSeconds               []float64
	at                           []time.Time
}

func (c *framesAccepted) add(record farm.Record, seq int64) {
	r := record.(farm.FrameAccepted)
	c.run, c.lease, c.node = append(c.run, int64(r.Run)), append(c.lease, int64(r.Lease)), append(c.node, int64(r.Node))
	c.bytes, c.seq = append(c.bytes, r.Bytes), append(c.seq, seq)
	c.memory = append(c.memory, r.MemoryBytes)
	c.fetchedBytes = append(c.fetchedBytes, r.Fetched.Bytes)
	c.fetchedSeconds = append(c.fetchedSeconds, r.Fetched.Seconds)
	var suspect *string
	if r.Suspect != "" {
		suspect = &r.Suspect
	}
	c.suspect = append(c.suspect, suspect)
	c.frame, c.launch = append(c.frame, int32(r.Frame)), append(c.launch, int32(r.Launch))
	c.hash, c.at, c.files = append(c.hash, r.Hash), append(c.at, r.At), append(c.files, filesColumn(r.Files))
	c.startup, c.render, c.check = append(c.startup, r.StartupSeconds), append(c.render, r.RenderSeconds), append(
		c.check, r.CheckSeconds,
	)
}

func (c *framesAccepted) statement() (string, []any) {
	return `INSERT INTO frame (run, frame, state, lease, launch, node, hash, bytes, startup_seconds, render_seconds,
		check_seconds, accepted_at, seq, files, memory_bytes, suspect,
		fetched_bytes, fetched_seconds)
		SELECT run, frame, 'delivering', lease, launch, node, hash, bytes, startup, render, looked, at, seq,
		files::jsonb, memory, suspect, fetched_bytes, fetched_seconds
		FROM unnest($1::bigint[], $2::int[], $3::bigint[], $4::int[], $5::bigint[], $6::text[], $7::bigint[],
		$8::float8[], $9::float8[], $10::float8[], $11::timestamptz[], $12::bigint[], $13::text[], $14::bigint[],
		$15::text[], $16::bigint[], $17::float8[])
			AS r(run, frame, lease, launch, node, hash, bytes, startup, render, looked, at, seq, files, memory, suspect,
			fetched_bytes, fetched_seconds)
		ON CONFLICT (run, frame) DO UPDATE SET state = 'delivering', lease = excluded.lease, launch = excluded.launch,
		node = excluded.node,
			hash = excluded.hash, bytes = excluded.bytes, startup_seconds = excluded.startup_seconds, render_seconds =
			excluded.render_seconds,
			check_seconds = excluded.check_seconds, accepted_at = excluded.accepted_at, seq = excluded.seq, files =
			excluded.files, suspect = excluded.suspect, fetched_bytes = excluded.fetched_bytes,
			fetched_seconds = excluded.fetched_seconds`,
		[]any{
			c.run, c.frame, c.lease, c.launch, c.node, c.hash, c.bytes, c.startup, c.render, c.check, c.at, c.seq,
			c.files, c.memory, c.suspect, c.fetchedBytes, c.fetchedSeconds,
		}
}

// filesColumn is what is kept of the files of a frame, or nil for one file.
func filesColumn(files []farm.File) *string {
	if len(files) == 0 {
		return nil
	}
	data, err := json.Marshal(files)
	if err != nil {
		panic(err) // texts and numbers always encode
	}
	text := string(data)
	return &text
}

type framesDone struct {
	run, seq, bytes []int64
	frame           []int32
	hash            []string
	files           []*string
	at              []time.Time
}

func (c *framesDone) add(record farm.Record, seq int64) {
	r := record.(farm.FrameDone)
	c.run, c.seq, c.frame = append(c.run, int64(r.Run)), append(c.seq, seq), append(c.frame, int32(r.Frame))
	c.hash, c.at = append(c.hash, r.Hash), append(c.at, r.At)
	c.bytes, c.files = append(c.bytes, r.Bytes), append(c.files, filesColumn(r.Files))
}

func (c *framesDone) statement() (string, []any) {
	return `UPDATE frame f SET state = 'done', hash = r.hash, done_at = r.at, seq = r.seq, bytes = r.bytes, files =
		r.files::jsonb
		FROM unnest($1::bigint[], $2::int[], $3::text[], $4::timestamptz[], $5::bigint[], $6::bigint[], $7::text[]) AS
		r(run, frame, hash, at, seq, bytes, files)
		WHERE f.run = r.run AND f.frame = r.frame`,
		[]any{
			c.run, c.frame, c.hash, c.at, c.seq, c.bytes, c.files,
		}
}

// events are the Records as the log keeps them.
type events struct {
	seq, run, node []int64
	at             []time.Time
	kind, reason   []string
	body           []*string
}

func (e *events) add(r farm.Record, seq int64, body func() ([]byte, error)) error {
	about := r.About()
	e.seq, e.run, e.node = append(e.seq, seq), append(e.run, int64(about.Run)), append(e.node, int64(about.Node))
	e.at, e.kind, e.reason = append(e.at, about.At), append(e.kind, string(r.Kind())), append(e.reason, about.Reason)
	if without := kinds[r.Kind()].bodiless; without != nil && without(r) {
		e.body = append(e.body, nil)
		return nil
	}
	data, err := body()
	if err != nil {
		return err
	}
	text := string(data)
	e.body = append(e.body, &text)
	return nil
}

func (e *events) statement() (string, []any) {
	return `INSERT INTO event (seq, at, kind, run, node, reason, body)
		SELECT seq, at, kind, NULLIF(run, 0), NULLIF(node, 0), reason, body::jsonb
		FROM unnest($1::bigint[], $2::timestamptz[], $3::text[], $4::bigint[], $5::bigint[], $6::text[], $7::text[]) AS
		r(seq, at, kind, run, node, reason, body)`,
		[]any{e.seq, e.at, e.kind, e.run, e.node, e.reason, e.body}
}
