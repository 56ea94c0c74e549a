package farm

import (
	"fmt"
	"maps"
	"time"
)

// PoolSet makes or changes a pool.
type PoolSet struct {
	Name     string    `json:"name"`
	Projects []string  `json:"projects"`
	Alone    bool      `json:"alone,omitempty"` // see Pool
	At       time.Time `json:"at"`
}

// Kind implements [Record].
func (PoolSet) Kind() Kind { return "pool set" }

// About implements [Record].
func (r PoolSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PoolSet) Wakes() Wakes { return WakesAsks }

func (r PoolSet) apply(s *State) error {
	s.Pools[r.Name] = &Pool{Name: r.Name, Projects: r.Projects, Alone: r.Alone}
	return nil
}

// PoolDropped does away with a pool that has no members.
type PoolDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (PoolDropped) Kind() Kind { return "pool dropped" }

// About implements [Record].
func (r PoolDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PoolDropped) Wakes() Wakes { return 0 }

func (r PoolDropped) apply(s *State) error {
	if len(s.Members(r.Name)) > 0 {
		return fmt.Errorf("the pool %s has members", r.Name)
	}
	delete(s.Pools, r.Name)
	return nil
}

// LaunchSettingsSet sets the account and the variables that renderers are
// launched with. Empty ones set nothing any more.
type LaunchSettingsSet struct {
	Of  LaunchScope    `json:"of"`
	Env LaunchSettings `json:"env"`
	At  time.Time      `json:"at"`
}

// Kind implements [Record].
func (LaunchSettingsSet) Kind() Kind { return "launch settings set" }

// About implements [Record].
func (r LaunchSettingsSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (LaunchSettingsSet) Wakes() Wakes { return WakesAsks }

func (r LaunchSettingsSet) apply(s *State) error {
	if r.Env.Empty() {
		delete(s.LaunchSettings, r.Of)
	} else {
		s.LaunchSettings[r.Of] = r.Env
	}
	return nil
}

// FreezeSet holds a place, a recipe or a pool as a whole, or releases it in steps.
// A Stay that neither holds nor has a step is over.
type FreezeSet struct {
	Of     FreezeScope `json:"of"`
	Freeze Freeze      `json:"stay"`
	At     time.Time   `json:"at"`
}

// Kind implements [Record].
func (FreezeSet) Kind() Kind { return "stay set" }

// About implements [Record].
func (r FreezeSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (FreezeSet) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r FreezeSet) apply(s *State) error {
	if r.Freeze.Held || r.Freeze.Step > 0 {
		s.Freezes[r.Of] = r.Freeze
	} else {
		delete(s.Freezes, r.Of)
	}
	return nil
}

// KeyRevoked shuts an enrolment key out.
type KeyRevoked struct {
	Hash string    `json:"hash"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (KeyRevoked) Kind() Kind { return "key revoked" }

// About implements [Record].
func (r KeyRevoked) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (KeyRevoked) Wakes() Wakes { return 0 }

func (r KeyRevoked) apply(s *State) error {
	if k := s.Keys[r.Hash]; k != nil {
		k.RevokedAt = r.At
	}
	return nil
}

// PlaceSet makes or changes a place.
type PlaceSet struct {
	Name  string            `json:"name"`
	Paths map[string]string `json:"paths"`
	Loads int               `json:"loads"` // launches that may load from it at the same moment; 0: any number
	At    time.Time         `json:"at"`
}

// Kind implements [Record].
func (PlaceSet) Kind() Kind { return "place set" }

// About implements [Record].
func (r PlaceSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PlaceSet) Wakes() Wakes { return WakesAsks }

func (r PlaceSet) apply(s *State) error {
	s.Places[r.Name] = &Place{Name: r.Name, Paths: r.Paths, Loads: r.Loads}
	return nil
}

// LicenceSet counts a licence, or lowers the count for a while. A Count below 0
// means that nobody counts it any more.
type LicenceSet struct {
	Name         string     `json:"name"`
	Count        int        `json:"count"`
	Lowered      int        `json:"lowered"`
	LoweredUntil *time.Time `json:"lowered_until"`
	Reason       string     `json:"reason"`
	At           time.Time  `json:"at"`
}

// Kind implements [Record].
func (LicenceSet) Kind() Kind { return "licence set" }

// About implements [Record].
func (r LicenceSet) About() About { return About{At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (LicenceSet) Wakes() Wakes { return WakesAsks }

func (r LicenceSet) apply(s *State) error {
	s.PutLicence(r)
	return nil
}

// ProjectSet makes or changes a project.
type ProjectSet struct {
	Name    string                 `json:"name"`
	Title   string                 `json:"title"`
	Weight  float64                `json:"weight"`
	Scenes  string                 `json:"scenes"`
	Frames  string                 `json:"frames"`
	Names   string                 `json:"names,omitempty"`   // pattern of the names of delivered files
	Bundles bool                   `json:"bundles,omitempty"` // its scenes are sent with all that they need
	Members map[string]ProjectRole `json:"members,omitempty"`
	Closed  bool                   `json:"closed,omitempty"` // only its members see it
	Budget  float64                `json:"budget_hours,omitempty"`
	At      time.Time              `json:"at"`
}

// Kind implements [Record].
func (ProjectSet) Kind() Kind { return "project set" }

// About implements [Record].
func (r ProjectSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (ProjectSet) Wakes() Wakes { return WakesAccess }

func (r ProjectSet) apply(s *State) error {
	s.Projects[r.Name] = &Project{
		Name: r.Name, Title: r.Title, Weight: r.Weight, Scenes: r.Scenes, Frames: r.Frames, Names: r.Names,
		Bundles: r.Bundles, Members: membersOf(r.Members), Closed: r.Closed, Budget: r.Budget,
	}
	return nil
}

// PlaceDropped does away with a place that no project uses, and with what it
// is held for.
type PlaceDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (PlaceDropped) Kind() Kind { return "place dropped" }

// About implements [Record].
func (r PlaceDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PlaceDropped) Wakes() Wakes { return 0 }

func (r PlaceDropped) apply(s *State) error {
	return s.placeDropped(r)
}

// ProjectDropped does away with a project that has no runs, and with the launch
// settings for it.
type ProjectDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (ProjectDropped) Kind() Kind { return "project dropped" }

// About implements [Record].
func (r ProjectDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (ProjectDropped) Wakes() Wakes { return WakesAccess }

func (r ProjectDropped) apply(s *State) error {
	return s.projectDropped(r)
}

// PersonSet makes a person, or changes role or password.
type PersonSet struct {
	Name         string    `json:"name"`
	Role         Role      `json:"role"`
	PasswordHash string    `json:"password_hash"`
	At           time.Time `json:"at"`
}

// Kind implements [Record].
func (PersonSet) Kind() Kind { return "person set" }

// About implements [Record].
func (r PersonSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PersonSet) Wakes() Wakes { return WakesAccess }

func (r PersonSet) apply(s *State) error {
	p := Person{Name: r.Name, Role: r.Role, PasswordHash: r.PasswordHash, CreatedAt: r.At}
	if old := s.People[r.Name]; old != nil {
		p.CreatedAt = old.CreatedAt
	}
	s.People[r.Name] = &p
	return nil
}

// PersonRemoved takes a person off the farm, and ends all that speaks for them.
type PersonRemoved struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (PersonRemoved) Kind() Kind { return "person removed" }

// About implements [Record].
func (r PersonRemoved) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PersonRemoved) Wakes() Wakes { return WakesAccess }

func (r PersonRemoved) apply(s *State) error {
	delete(s.People, r.Name)
	for hash, t := range s.Tokens {
		if t.Person == r.Name {
			delete(s.Tokens, hash)
		}
	}
	for _, p := range s.Projects { // who comes later under this name belongs to none
		if _, member := p.Members[r.Name]; member {
			left := maps.Clone(p.Members)
			delete(left, r.Name)
			p.Members = membersOf(left)
		}
	}
	return nil
}

// TokenIssued lets a token in.
type TokenIssued struct {
	Hash      string     `json:"hash"`
	Of        TokenKind  `json:"kind"`
	Person    string     `json:"person"`
	Node      NodeID     `json:"node"`
	Label     string     `json:"label"`
	At        time.Time  `json:"at"`
	ExpiresAt *time.Time `json:"expires_at"` // nil: never
}

// Kind implements [Record].
func (TokenIssued) Kind() Kind { return "token issued" }

// About implements [Record].
func (r TokenIssued) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (TokenIssued) Wakes() Wakes { return WakesAccess }

func (r TokenIssued) apply(s *State) error {
	s.PutToken(r)
	return nil
}

// TokenRevoked shuts a token out.
type TokenRevoked struct {
	Hash string    `json:"hash"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (TokenRevoked) Kind() Kind { return "token revoked" }

// About implements [Record].
func (r TokenRevoked) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (TokenRevoked) Wakes() Wakes { return WakesAccess }

func (r TokenRevoked) apply(s *State) error {
	delete(s.Tokens, r.Hash)
	return nil
}

// KeyIssued lets an enrolment key be used.
type KeyIssued struct {
	Hash      string    `json:"hash"`
	Label     string    `json:"label"`
	CreatedBy string    `json:"created_by"`
	Uses      int       `json:"uses"`
	Pools     []string  `json:"pools"`   // that its nodes join
	Returns   []string  `json:"returns"` // nodes that were shut out and may come back with it
	At        time.Time `json:"at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// Kind implements [Record].
func (KeyIssued) Kind() Kind { return "key issued" }

// About implements [Record].
func (r KeyIssued) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (KeyIssued) Wakes() Wakes { return 0 }

func (r KeyIssued) apply(s *State) error {
	s.Keys[r.Hash] = &Key{
		Hash: r.Hash, Label: r.Label, CreatedBy: r.CreatedBy, CreatedAt: r.At, ExpiresAt: r.ExpiresAt,
		UsesLeft: r.Uses, Pools: r.Pools, Returns: r.Returns,
	}
	return nil
}

// Audited records who changed what.
type Audited struct {
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`  // such as "hold run"
	Subject string    `json:"subject"` // such as "salt_010/final-2"
	From    string    `json:"from"`
	To      string    `json:"to"`
	Run     RunID     `json:"run"`
	Node    NodeID    `json:"node"`
	At      time.Time `json:"at"`
}

// Kind implements [Record].
func (Audited) Kind() Kind { return "audited" }

// About implements [Record].
func (r Audited) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (Audited) Wakes() Wakes { return 0 }

func (Audited) apply(_ *State) error {
	return nil
}
