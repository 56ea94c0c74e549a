package store

import "vexillum/internal/core/farm"

// setupKinds are the Records of what is set up: places, projects, people, recipes and the like.
var setupKinds = map[farm.Kind]kept{
	farm.PoolSet{}.Kind(): {
		statement: `INSERT INTO pool (name, projects, alone)
		SELECT name, COALESCE(NULLIF(projects, 'null'), '[]'), COALESCE(alone, false)
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, projects jsonb, alone boolean)
		ON CONFLICT (name) DO UPDATE SET projects = excluded.projects, alone = excluded.alone`,
		touches: of(func(r farm.PoolSet) (writes, reads []row) {
			return []row{named("pool", r.Name)}, nil
		}),
	},
	farm.PoolDropped{}.Kind(): {
		statement: `DELETE FROM pool p USING jsonb_to_recordset($1::jsonb) AS r(name text) WHERE p.name = r.name`,
		touches: of(func(r farm.PoolDropped) (writes, reads []row) {
			return []row{named("pool", r.Name)}, nil
		}),
	},
	farm.LaunchSettingsSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'project' AS project, of->>'recipe' AS recipe, env FROM jsonb_to_recordset($1::jsonb) AS r(of
			jsonb, env jsonb))
		INSERT INTO launch_settings (project, recipe, env) SELECT project, recipe, env FROM r
		ON CONFLICT (project, recipe) DO UPDATE SET env = excluded.env`,
		touches: of(func(r farm.LaunchSettingsSet) (writes, reads []row) {
			return []row{named("launch settings", r.Of.String()), named("launch settings of", r.Of.Project)}, nil
		}),
	},
	farm.RecipeSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(name text, version int, text text, origin text, by text,
			note text, at timestamptz)
		), kept AS (
			INSERT INTO recipe_version (name, version, text, origin, by, note, at)
			SELECT name, version, text, origin, by, note, at FROM r
		)
		INSERT INTO recipe (name) SELECT DISTINCT name FROM r ON CONFLICT (name) DO UPDATE SET dropped_at = NULL`,
		touches: of(func(r farm.RecipeSet) (writes, reads []row) {
			return []row{named("recipe", r.Name)}, nil
		}),
		bodiless: always,
	},
	farm.RecipeDropped{}.Kind(): {
		statement: `UPDATE recipe SET dropped_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(name text, at
		timestamptz) WHERE recipe.name = r.name`,
		touches: of(func(r farm.RecipeDropped) (writes, reads []row) {
			return []row{named("recipe", r.Name)}, nil
		}),
	},
	farm.PresetSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'project' AS project, of->>'recipe' AS recipe, of->>'name' AS name, version, text, by, note, at
			FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, version int, text text, by text, note text, at timestamptz)
		), kept AS (
			INSERT INTO preset_version (project, recipe, name, version, text, by, note, at)
			SELECT project, recipe, name, version, text, by, note, at FROM r
		)
		INSERT INTO preset (project, recipe, name) SELECT DISTINCT project, recipe, name FROM r
		ON CONFLICT (project, recipe, name) DO UPDATE SET dropped_at = NULL`,
		touches: of(func(r farm.PresetSet) (writes, reads []row) {
			return []row{named("preset", r.Of.String())}, nil
		}),
		bodiless: always,
	},
	farm.PresetDropped{}.Kind(): {
		statement: `UPDATE preset p SET dropped_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, at
		timestamptz) WHERE p.project = r.of->>'project' AND p.recipe = r.of->>'recipe' AND p.name = r.of->>'name'`,
		touches: of(func(r farm.PresetDropped) (writes, reads []row) {
			return []row{named("preset", r.Of.String())}, nil
		}),
	},
	farm.PresetChosen{}.Kind(): {
		statement: `WITH r AS (
			SELECT "for"->>'person' AS person, "for"->>'project' AS project, "for"->>'recipe' AS recipe, name
			FROM jsonb_to_recordset($1::jsonb) AS r("for" jsonb, name text)
		), gone AS (
			DELETE FROM preset_choice c USING r WHERE r.name = '' AND (c.person, c.project, c.recipe) =
			(r.person, r.project, r.recipe)
		)
		INSERT INTO preset_choice (person, project, recipe, name) SELECT person, project, recipe, name FROM r
		WHERE name <> '' ON CONFLICT (person, project, recipe) DO UPDATE SET name = excluded.name`,
		touches: of(func(r farm.PresetChosen) (writes, reads []row) {
			return []row{named("preset choice", r.For.Person+"\n"+r.For.Project+"\n"+r.For.Recipe)}, nil
		}),
	},
	farm.RateSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'kind' AS kind, COALESCE(of->>'name', '') AS name,
				COALESCE((rate->>'watts')::float8, 0) AS watts, COALESCE((rate->>'per_hour')::float8, 0) AS per_hour,
				COALESCE(rate->>'currency', '') AS currency, rate = '{}' AS gone
			FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, rate jsonb)
		), dropped AS (
			DELETE FROM rate USING r WHERE r.gone AND (rate.kind, rate.name) = (r.kind, r.name)
		)
		INSERT INTO rate (kind, name, watts, per_hour, currency)
		SELECT kind, name, watts, per_hour, currency FROM r WHERE NOT gone
		ON CONFLICT (kind, name) DO UPDATE SET watts = excluded.watts, per_hour = excluded.per_hour, currency =
		excluded.currency`,
		touches: of(func(r farm.RateSet) (writes, reads []row) {
			return []row{named("rate", r.Of.String())}, nil
		}),
	},
	farm.PreflightRuleSet{}.Kind(): {
		statement: `INSERT INTO preflight_rule (held, night, zone)
		SELECT COALESCE((rule->>'held')::boolean, false), COALESCE(rule->>'night', ''), COALESCE(rule->>'zone', '')
		FROM jsonb_to_recordset($1::jsonb) AS r(rule jsonb)
		ON CONFLICT (one) DO UPDATE SET held = excluded.held, night = excluded.night, zone = excluded.zone`,
		touches: of(func(farm.PreflightRuleSet) (writes, reads []row) {
			return []row{named("preflight rule", "")}, nil
		}),
	},
	farm.KeyRevoked{}.Kind(): {
		statement: `UPDATE enrolment_key k SET revoked_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(hash text, at
			timestamptz) WHERE k.hash = r.hash`,
		touches: of(func(r farm.KeyRevoked) (writes, reads []row) {
			return []row{named("key", r.Hash)}, nil
		}),
	},
	farm.PlaceSet{}.Kind(): {
		statement: `INSERT INTO place (name, paths, loads)
		SELECT name, paths, COALESCE(loads, 0) FROM jsonb_to_recordset($1::jsonb) AS r(name text, paths jsonb, loads
		int)
		ON CONFLICT (name) DO UPDATE SET paths = excluded.paths, loads = excluded.loads`,
		touches: of(func(r farm.PlaceSet) (writes, reads []row) {
			return []row{named("place", r.Name)}, nil
		}),
	},
	farm.LicenceSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(name text, count int, lowered int, lowered_until
			timestamptz)
		), gone AS (
			DELETE FROM licence l USING r WHERE l.name = r.name AND r.count < 0
		)
		INSERT INTO licence (name, count, lowered, lowered_until) SELECT name, count, lowered, lowered_until FROM r
		WHERE count >= 0
		ON CONFLICT (name) DO UPDATE SET count = excluded.count, lowered = excluded.lowered, lowered_until =
		excluded.lowered_until`,
		touches: of(func(r farm.LicenceSet) (writes, reads []row) {
			return []row{named("licence", r.Name)}, nil
		}),
	},
	farm.ProjectSet{}.Kind(): {
		statement: `INSERT INTO project (name, title, weight, scenes, frames, names, bundles, members, closed,
		budget_hours)
		SELECT name, title, weight, scenes, frames, COALESCE(names, ''), COALESCE(bundles, false),
		COALESCE(members, '{}'), COALESCE(closed, false), COALESCE(budget_hours, 0)
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, title text, weight float8, scenes text, frames text,
		names text, bundles boolean, members jsonb, closed boolean, budget_hours float8)
		ON CONFLICT (name) DO UPDATE SET title = excluded.title, weight = excluded.weight, scenes = excluded.scenes,
		frames = excluded.frames, names = excluded.names, bundles = excluded.bundles, members = excluded.members,
		closed = excluded.closed, budget_hours = excluded.budget_hours`,
		touches: of(func(r farm.ProjectSet) (writes, reads []row) {
			return []row{
					named("project", r.Name),
				}, []row{
					named("place", r.Scenes), named("place", r.Frames), anyProject,
				}
		}),
	},
	farm.PlaceDropped{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), released AS (
			DELETE FROM stay s USING r WHERE s.kind = 'place' AND s.name = r.name
		)
		DELETE FROM place p USING r WHERE p.name = r.name`,
		// projects that used it have gone or changed before
		touches: of(func(r farm.PlaceDropped) (writes, reads []row) {
			return []row{
				named("place", r.Name), named("stay", farm.FreezeScope{Kind: farm.FreezePlace, Name: r.Name}.String()),
				anyProject,
			}, nil
		}),
	},
	farm.ProjectDropped{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), settings AS (
			DELETE FROM launch_settings l USING r WHERE l.project = r.name
		)
		DELETE FROM project p USING r WHERE p.name = r.name`,
		touches: of(func(r farm.ProjectDropped) (writes, reads []row) {
			return []row{named("project", r.Name), named("launch settings of", r.Name)}, []row{anyProject}
		}),
	},
	farm.PersonSet{}.Kind(): {
		statement: `INSERT INTO person (name, role, password_hash, created_at)
		SELECT name, role, password_hash, at
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, role text, password_hash text, at timestamptz)
		ON CONFLICT (name) DO UPDATE SET role = excluded.role, password_hash = excluded.password_hash`,
		touches: of(func(r farm.PersonSet) (writes, reads []row) {
			return []row{named("person", r.Name)}, nil
		}),
		bodiless: always,
	},
	farm.PersonRemoved{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), ended AS (
			DELETE FROM token t USING r WHERE t.person = r.name
		), parted AS (
			UPDATE project p SET members = p.members - ARRAY(SELECT name FROM r)
			WHERE p.members ?| ARRAY(SELECT name FROM r)
		)
		DELETE FROM person p USING r WHERE p.name = r.name`,
		// those that were issued before need the person
		touches: of(func(r farm.PersonRemoved) (writes, reads []row) {
			return []row{named("person", r.Name), anyProject}, nil
		}),
	},
	farm.TokenIssued{}.Kind(): {
		statement: `INSERT INTO token (hash, kind, person, node, label, created_at, expires_at)
		SELECT hash, kind, NULLIF(person, ''), NULLIF(node, 0), label, at, expires_at
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, kind text, person text, node bigint, label text, at
		timestamptz, expires_at timestamptz)`,
		touches: of(func(r farm.TokenIssued) (writes, reads []row) {
			return []row{named("token", r.Hash)}, []row{named("person", r.Person), node(r.Node), nodeToken(r.Node)}
		}),
		bodiless: always,
	},
	farm.TokenRevoked{}.Kind(): {
		statement: `DELETE FROM token USING jsonb_to_recordset($1::jsonb) AS r(hash text) WHERE token.hash = r.hash`,
		touches: of(func(r farm.TokenRevoked) (writes, reads []row) {
			return []row{named("token", r.Hash)}, nil
		}),
		bodiless: always,
	},
	farm.KeyIssued{}.Kind(): {
		statement: `INSERT INTO enrolment_key (hash, label, created_by, created_at, expires_at, uses_left, pools,
			returns)
		SELECT hash, label, created_by, at, expires_at, uses, COALESCE(NULLIF(pools, 'null'), '[]'),
		COALESCE(NULLIF(returns, 'null'), '[]')
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, label text, created_by text, at timestamptz, expires_at
		timestamptz, uses int, pools jsonb, returns jsonb)`,
		touches: of(func(r farm.KeyIssued) (writes, reads []row) {
			return []row{named("key", r.Hash)}, nil
		}),
		bodiless: always,
	},
	farm.Audited{}.Kind(): {
		statement: `INSERT INTO audit (seq, at, actor, action, subject, before, after)
		SELECT seq, at, actor, action, subject, "from", "to"
		FROM jsonb_to_recordset($1::jsonb) AS r(seq bigint, at timestamptz, actor text, action text, subject text,
		"from" text, "to" text)`,
	},
}
