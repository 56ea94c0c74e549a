package store

import (
	"database/sql"
	"encoding/json"
	"time"

	"vexillum/internal/core/farm"
)

func (l *loader) places() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Place
		var paths []byte
		if err := row.Scan(&p.Name, &paths, &p.Loads); err != nil {
			return err
		}
		l.state.Places[p.Name] = &p
		return json.Unmarshal(paths, &p.Paths)
	}, `SELECT name, paths, loads FROM place`)
}

func (l *loader) licences() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.LicenceSet
		err := row.Scan(&r.Name, &r.Count, &r.Lowered, &r.LoweredUntil)
		l.state.PutLicence(r)
		return err
	}, `SELECT name, count, lowered, lowered_until FROM licence`)
}

func (l *loader) projects() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Project
		var members []byte
		if err := row.Scan(
			&p.Name, &p.Title, &p.Weight, &p.Scenes, &p.Frames, &p.Names, &p.Bundles, &members, &p.Closed, &p.Budget,
		); err != nil {
			return err
		}
		l.state.Projects[p.Name] = &p
		if string(members) == "{}" {
			return nil
		}
		return json.Unmarshal(members, &p.Members)
	}, `SELECT name, title, weight, scenes, frames, names, bundles, members, closed, budget_hours FROM project`)
}

func (l *loader) people() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Person
		err := row.Scan(&p.Name, &p.Role, &p.PasswordHash, &p.CreatedAt)
		l.state.People[p.Name] = &p
		return err
	}, `SELECT name, role, password_hash, created_at FROM person`)
}

func (l *loader) keys() error {
	return l.each(func(row *sql.Rows) error {
		var k farm.Key
		var pools, returns []byte
		var revoked *time.Time
		err := row.Scan(
			&k.Hash, &k.Label, &k.CreatedBy, &k.CreatedAt, &k.ExpiresAt, &k.UsesLeft, &pools, &returns, &revoked,
		)
		if err != nil {
			return err
		}
		k.RevokedAt = orZero(revoked)
		l.state.Keys[k.Hash] = &k
		if err := json.Unmarshal(returns, &k.Returns); err != nil {
			return err
		}
		return json.Unmarshal(pools, &k.Pools)
	}, `SELECT hash, label, created_by, created_at, expires_at, uses_left, pools, returns, revoked_at FROM
		enrolment_key WHERE expires_at > now() - interval '90 days'`)
}

func (l *loader) nodes() error {
	return l.each(func(row *sql.Rows) error {
		var n farm.Node
		var facts, settings []byte
		var enrolled, retired, since, until, health, trial *time.Time
		var pause float64
		var aside []byte
		if err := row.Scan(
			&n.ID, &n.Name, &n.Kind, &facts, &n.Session, &n.Reach, &n.ReachSince, &n.Duty, &n.DutyReason, &since,
			&n.DutyNow, &until, &n.Health, &n.HealthWhy, &n.HealthBy, &settings, &n.Version, &enrolled, &retired,
			&health, &trial, &pause, &aside,
		); err != nil {
			return err
		}
		n.HealthAt, n.TrialAt, n.TrialPause = orZero(health), orZero(trial), time.Duration(pause*float64(time.Second))
		if aside != nil {
			if err := json.Unmarshal(aside, &n.Aside); err != nil {
				return err
			}
		}
		n.EnrolledAt, n.RetiredAt, n.DutySince, n.OffUntil = orZero(enrolled), orZero(retired), orZero(since), orZero(
			until,
		)
		n.Changed = l.state.Seq
		l.state.PutNode(&n)
		if err := json.Unmarshal(facts, &n.Facts); err != nil {
			return err
		}
		return json.Unmarshal(settings, &n.Settings)
	}, `SELECT id, name, kind, facts, session, reach, reach_since, duty, duty_reason, duty_since, duty_now, off_until,
		health, health_why, health_by, settings, version, enrolled_at, retired_at, health_at, trial_at, trial_pause,
		aside FROM node ORDER BY id`)
}

func orZero(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func (l *loader) pools() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Pool
		var projects []byte
		if err := row.Scan(&p.Name, &projects, &p.Alone); err != nil {
			return err
		}
		l.state.Pools[p.Name] = &p
		return json.Unmarshal(projects, &p.Projects)
	}, `SELECT name, projects, alone FROM pool`)
}

func (l *loader) launchSettings() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.LaunchScope
		var env farm.LaunchSettings
		var data []byte
		err := row.Scan(&of.Project, &of.Recipe, &data)
		if err == nil {
			err = json.Unmarshal(data, &env)
		}
		if err == nil && !env.Empty() {
			l.state.LaunchSettings[of] = env
		}
		return err
	}, `SELECT project, recipe, env FROM launch_settings`)
}

func (l *loader) recipes() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.RecipeSet
		var dropped *time.Time
		err := row.Scan(&r.Name, &r.Version, &r.Text, &r.Origin, &r.By, &r.Note, &r.At, &dropped)
		if err == nil {
			err = l.state.PutRecipe(r)
		}
		if err == nil {
			l.state.Recipes[r.Name].DroppedAt = orZero(dropped)
		}
		return err
	}, `SELECT name, version, text, origin, by, note, at, dropped_at FROM recipe JOIN recipe_version USING (name)
	ORDER BY name, version`)
}

func (l *loader) preflightRule() error {
	return l.each(func(row *sql.Rows) error {
		r := &l.state.PreflightRule
		return row.Scan(&r.Held, &r.Night, &r.Zone)
	}, `SELECT held, night, zone FROM preflight_rule`)
}

func (l *loader) rates() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.RateScope
		var rate farm.Rate
		err := row.Scan(&of.Kind, &of.Name, &rate.Watts, &rate.PerHour, &rate.Currency)
		l.state.Rates[of] = rate
		return err
	}, `SELECT kind, name, watts, per_hour, currency FROM rate`)
}

func (l *loader) presets() error {
	err := l.each(func(row *sql.Rows) error {
		var r farm.PresetSet
		var dropped *time.Time
		err := row.Scan(
			&r.Of.Project, &r.Of.Recipe, &r.Of.Name, &r.Version, &r.Text, &r.By, &r.Note, &r.At, &dropped,
		)
		if err == nil {
			err = l.state.PutPreset(r)
		}
		if err == nil {
			l.state.Presets[r.Of].DroppedAt = orZero(dropped)
		}
		return err
	}, `SELECT project, recipe, name, version, text, by, note, at, dropped_at FROM preset
		JOIN preset_version USING (project, recipe, name) ORDER BY project, recipe, name, version`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error {
		var of farm.PresetChoice
		var name string
		err := row.Scan(&of.Person, &of.Project, &of.Recipe, &name)
		l.state.PresetChoices[of] = name
		return err
	}, `SELECT person, project, recipe, name FROM preset_choice`)
}

// channels reads where notices go, and who is on call.
func (l *loader) channels() error {
	err := l.each(func(row *sql.Rows) error {
		var body []byte
		c := &farm.Channel{}
		err := row.Scan(&body)
		if err == nil {
			err = json.Unmarshal(body, c)
		}
		l.state.Channels[c.Name] = c
		return err
	}, `SELECT body FROM channel`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error { return row.Scan(&l.state.OnCall) }, `SELECT calendar FROM on_call`)
}

// hands reads what needs a person, and what did until a while ago.
func (l *loader) hands() error {
	err := l.each(func(row *sql.Rows) error {
		var h farm.Hand
		var of []byte
		var ended, taken, snoozed, resolved *time.Time
		err := row.Scan(
			&h.ID,
			&of,
			&h.Project,
			&h.Sentence,
			&h.Evidence,
			&h.Count,
			&h.RaisedAt,
			&h.LastAt,
			&ended,
			&h.TakenBy,
			&taken,
			&h.SnoozedBy,
			&snoozed,
			&h.ResolvedBy,
			&resolved,
			&h.Note,
		)
		if err == nil {
			err = json.Unmarshal(of, &h.Of)
		}
		h.EndedAt, h.TakenAt, h.SnoozedUntil, h.ResolvedAt = orZero(
			ended,
		), orZero(
			taken,
		), orZero(
			snoozed,
		), orZero(
			resolved,
		)
		l.state.Hands[h.Of] = &h
		return err
	}, `SELECT id, of, project, sentence, evidence, count, raised_at, last_at, ended_at, taken_by, taken_at,
		snoozed_by, snoozed_until, resolved_by, resolved_at, note FROM hand
		WHERE ended_at IS NULL OR ended_at > (SELECT max(last_at) FROM hand) - interval '1 hour' ORDER BY id`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error {
		return row.Scan(&l.state.LastHand)
	}, `SELECT COALESCE(max(id), 0) FROM hand`)
}

func (l *loader) waits() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.Surrounding
		var data []byte
		w := &farm.Wait{}
		err := row.Scan(&of.Kind, &of.Name, &of.Version, &data)
		if err == nil {
			err = json.Unmarshal(data, w)
		}
		l.state.Waits[of] = w
		return err
	}, `SELECT kind, name, version, wait FROM wait`)
}

func (l *loader) stays() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.FreezeSet
		var data []byte
		err := row.Scan(&r.Of.Kind, &r.Of.Name, &data)
		if err == nil {
			err = json.Unmarshal(data, &r.Freeze)
		}
		if err == nil && (r.Freeze.Held || r.Freeze.Step > 0) {
			l.state.Freezes[r.Of] = r.Freeze
		}
		return err
	}, `SELECT kind, name, stay FROM stay`)
}

func (l *loader) tokens() error {
	return l.each(func(row *sql.Rows) error {
		var t farm.TokenIssued
		if err := row.Scan(&t.Hash, &t.Of, &t.Person, &t.Node, &t.Label, &t.At, &t.ExpiresAt); err != nil {
			return err
		}
		l.state.PutToken(t)
		return nil
	}, `SELECT hash, kind, COALESCE(person, ''), COALESCE(node, 0), label, created_at, expires_at FROM token
		WHERE expires_at IS NULL OR expires_at > now()`)
}
