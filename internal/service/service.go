// Package service holds the use cases. Every door calls these and nothing
// else. A use case reads what it needs, asks the core, writes what is wanted
// together with its journal entry, and wakes the keeper; it never waits for a
// yard, except where it has to look at work before it is thrown away.
package service

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"time"

	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/identity"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/record"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
)

// Service is the use cases, a field for each noun.
type Service struct {
	People       *People
	Guests       *Guests
	Repositories *Repositories
	Definitions  *Definitions
	Secrets      *Secrets
	Launches     *Launches
	Workspaces   *Workspaces
	Operations   *Operations
	Adoptions    *Adoptions
	Quarantine   *Quarantine
	Sessions     *Sessions
	Benches      *Benches
	Files        *Files
	Changes      *Changes
	HouseRules   *HouseRules
	Journal      *Journal
	Feed         *Feed
	Costs        *Costs
	Ports        *Ports
	LookLinks    *LookLinks
	Recordings   *Recordings
	Attention    *Attention
	Prebuilds    *Prebuilds
	Pushes       *Pushes
	Starters     *Starters
	Webhooks     *Webhooks
	SignIns      *SignIns
	Tastes       *Tastes
	Providers    *Providers
	LaunchLinks  *LaunchLinks
	Profiles     *Profiles
	GitKeys      *GitKeys
	GitHosts     *GitHosts
	Sealing      *Sealing
	Passkeys     *Passkeys
	Directory    *Directory
	Clients      *Clients
	Keys         *Keys
	Programs     *Programs
	Leases       *Leases
	Openings     *Openings
	Pace         *Pace
	Twice        *Twice
	Health       *Health
	Figures      *Figures
}

// Rooms is what the use cases stand on. All are needed, but that Now may be nil
// for the real clock.
type Rooms struct {
	Store    *store.Store
	Keeper   *reconcile.Keeper
	House    *house.Book
	Sessions *session.Sessions
	Hub      reconcile.Stewards
	Mirrors  Mirrors
	Vault    *vault.Vault
	Bus      *live.Bus
	Yard     yard.Yard // of which each use case sees what it asks of it

	Installation string             // what everything of ours in the yard is marked with
	Simulated    bool               // nothing really runs in the yard
	JournalKey   ed25519.PrivateKey // signs the heads of the journal
	Address      string             // the console's, as people reach it
	// ChangesPerHour bounds what a person changes, a tenth of it at once; 0 does not.
	ChangesPerHour int
	// ErrandLease is how long a workspace for one command stays without a word; 0 is a
	// minute.
	ErrandLease time.Duration
	Recordings  string   // the folder of recordings
	KeyFiles    []string // that the service wants at its next start
	// LastBackup is when the newest backup was made; the zero time for never.
	LastBackup func() (time.Time, error)
	// TrailBehind is since when the second place has not followed the records, the zero
	// time where it has; nil where there is none.
	TrailBehind func() time.Time
	// CertificateEnds is when the certificate of the door ends; nil where it has none.
	CertificateEnds func() time.Time
	SSH             SSH // the zero value: no such door
	Now             func() time.Time
}

// Mirrors is what is asked of the copies of repositories; see repo.Mirrors.
type Mirrors interface {
	reconcile.Trees
	DefaultBranch(ctx context.Context, address string, c repo.Credential) (string, error)
	Drop(id string) error
	Fetch(ctx context.Context, id, address string, c repo.Credential) error
	FetchRequest(ctx context.Context, id, address string, c repo.Credential, ref string) error
	FetchRequests(ctx context.Context, id, address string, c repo.Credential, most int) error
	Resolve(ctx context.Context, id, branch string) (string, error)
	Branches(ctx context.Context, id string, most int) ([]repo.Branch, error)
	Behind(ctx context.Context, id, commit, head string) (int, error)
	List(ctx context.Context, id, commit, folder string) ([]string, error)
	Files(ctx context.Context, id, commit, folder string, max int, maxBytes int64) ([]repo.File, error)
	Tree(ctx context.Context, id, commit, folder string) (string, error)
}

// New makes the use cases over their rooms.
func New(r Rooms) *Service {
	if r.Now == nil {
		r.Now = time.Now
	}
	trier, _ := r.Yard.(yard.Trier)
	printed, _ := r.Yard.(serviceLogs)
	people := &People{address: r.Address, store: r.Store, house: r.House, now: r.Now}
	repositories := &Repositories{mirrors: r.Mirrors, sessions: r.Sessions, store: r.Store, people: people}
	definitions := &Definitions{looks: newLooks(), images: r.Yard, trier: trier, bus: r.Bus, house: r.House, keeper: r.Keeper, mirrors: r.Mirrors, sessions: r.Sessions, store: r.Store, repositories: repositories}
	secrets := &Secrets{keeper: r.Keeper, store: r.Store, vault: r.Vault, definitions: definitions, repositories: repositories, sessions: r.Sessions}
	look := &views{bus: r.Bus, house: r.House, keeper: r.Keeper, store: r.Store, now: r.Now}
	secrets.views = look
	lease := cmp.Or(r.ErrandLease, errandLease)
	launches := &Launches{lease: lease, house: r.House, keeper: r.Keeper, mirrors: r.Mirrors, store: r.Store, vault: r.Vault, definitions: definitions, repositories: repositories, secrets: secrets, views: look}
	workspaces := &Workspaces{lease: lease, house: r.House, keeper: r.Keeper, store: r.Store, definitions: definitions, launches: launches, views: look}
	adoptions := &Adoptions{house: r.House, keeper: r.Keeper, store: r.Store, vault: r.Vault, launches: launches, repositories: repositories, workspaces: workspaces, views: look}
	sessions := &Sessions{yard: r.Yard, printed: printed, hub: r.Hub, sessions: r.Sessions, store: r.Store, views: look, now: r.Now}
	recordings := &Recordings{simulated: r.Simulated, house: r.House, store: r.Store, views: look, sessions: sessions, Recorder: &record.Recorder{Dir: r.Recordings, Store: r.Store, Hub: r.Hub, Now: r.Now, Told: sessions.seats.record,
		Rules: func(ctx context.Context) (rules.Rules, error) {
			house, _, err := r.House.Rules(ctx, r.Store.Read())
			return house, err
		}}}
	sessions.recordings = recordings
	files := &Files{hub: r.Hub, keeper: r.Keeper, store: r.Store, views: look, wakes: workspaces, now: r.Now}
	houseRules := &HouseRules{house: r.House, keeper: r.Keeper, store: r.Store, now: r.Now}
	journal := &Journal{journalKey: r.JournalKey, installation: r.Installation, store: r.Store, now: r.Now, views: look, repositories: repositories}
	feed := &Feed{bus: r.Bus, store: r.Store, journal: journal, views: look}
	costs := &Costs{house: r.House, store: r.Store, now: r.Now}
	ports := &Ports{house: r.House, address: r.Address, bus: r.Bus, hub: r.Hub, keeper: r.Keeper, sessions: r.Sessions, store: r.Store, vault: r.Vault, now: r.Now, views: look, wakes: workspaces}
	links := &LookLinks{house: r.House, ports: ports, store: r.Store, vault: r.Vault, views: look, now: r.Now}
	ports.links = links
	prebuilds := &Prebuilds{house: r.House, keeper: r.Keeper, store: r.Store, vault: r.Vault, now: r.Now, definitions: definitions, launches: launches, repositories: repositories, views: look}
	repositories.prebuilds = prebuilds
	pushes := &Pushes{store: r.Store, vault: r.Vault, now: r.Now, definitions: definitions, prebuilds: prebuilds, repositories: repositories}
	starters := &Starters{house: r.House, mirrors: r.Mirrors, store: r.Store, definitions: definitions}
	webhooks := &Webhooks{installation: r.Installation, bus: r.Bus, house: r.House, keeper: r.Keeper, store: r.Store, vault: r.Vault, now: r.Now, journal: journal}
	signIns := &SignIns{repositories: repositories, house: r.House, keeper: r.Keeper, store: r.Store, now: r.Now}
	leases := &Leases{store: r.Store, views: look, ports: ports, sessions: sessions, used: signIns.used, now: r.Now}
	if r.Store != nil { // there are no rooms where only the API is described
		r.Store.OnGround(func(ids []string) {
			ports.entered.forget() // before anything looks anew
			leases.changed(ids)
		})
	}
	examiner, _ := r.Yard.(yard.Examiner)
	quarantine := &Quarantine{house: r.House, keeper: r.Keeper, store: r.Store, vault: r.Vault, definitions: definitions, launches: launches,
		repositories: repositories, views: look}
	openings := &Openings{undecided: quarantine.undecided, address: r.Address, perHour: r.ChangesPerHour, yard: examiner, house: r.House, store: r.Store, now: r.Now, lastBackup: r.LastBackup}
	roomer, _ := r.Yard.(yard.Roomer)
	health := &Health{keeper: r.Keeper, simulated: r.Simulated, house: r.House, store: r.Store, yard: roomer, views: look, keys: r.KeyFiles, certificate: r.CertificateEnds, trail: r.TrailBehind, now: r.Now}
	passkeys := &Passkeys{address: r.Address, store: r.Store, vault: r.Vault, now: r.Now, signIns: signIns}
	providers := &Providers{passkeys: passkeys, address: r.Address, house: r.House, store: r.Store, vault: r.Vault, now: r.Now, room: &identity.Room{Now: r.Now}}
	guests := &Guests{house: r.House, keeper: r.Keeper, store: r.Store, now: r.Now, people: people, repositories: repositories, works: workspaces}
	people.guests, signIns.guests, signIns.secrets = guests, guests, secrets
	people.links = &LaunchLinks{address: r.Address, store: r.Store, launches: launches, house: r.House, people: people, works: workspaces, now: r.Now}
	attends := &Attention{store: r.Store, views: look, health: health, journal: journal, prebuilds: prebuilds, webhooks: webhooks, now: r.Now}
	return &Service{
		People:       people,
		Guests:       guests,
		Repositories: repositories,
		Definitions:  definitions,
		Secrets:      secrets,
		Launches:     launches,
		Workspaces:   workspaces,
		Operations:   &Operations{store: r.Store, bus: r.Bus, workspaces: workspaces, views: look, now: r.Now, turn: make(chan struct{}, operationAtOnce)},
		Adoptions:    adoptions,
		Quarantine:   quarantine,
		Sessions:     sessions,
		Benches:      &Benches{sessions: sessions, files: files, views: look},
		Files:        files,
		Changes:      &Changes{sessions: r.Sessions, files: files, views: look},
		HouseRules:   houseRules,
		Journal:      journal,
		Feed:         feed,
		Costs:        costs,
		Ports:        ports,
		LookLinks:    links,
		Recordings:   recordings,
		Attention:    attends,
		Prebuilds:    prebuilds,
		Pushes:       pushes,
		Starters:     starters,
		Webhooks:     webhooks,
		Tastes:       &Tastes{store: r.Store},
		Sealing:      &Sealing{store: r.Store, vault: r.Vault, now: r.Now, again: make(chan struct{}, 1)},
		GitHosts:     &GitHosts{r.Address, r.Store, r.Vault, r.Sessions, r.Now},
		GitKeys:      &GitKeys{r.Store, r.Vault, r.Sessions},
		Profiles:     &Profiles{house: r.House, store: r.Store},
		LaunchLinks:  people.links,
		Clients:      &Clients{address: r.Address, house: r.House, store: r.Store, now: r.Now},
		Providers:    providers,
		Directory:    &Directory{house: r.House, store: r.Store, providers: providers, works: workspaces},
		SignIns:      signIns,
		Passkeys:     passkeys,
		Keys:         &Keys{signIns: signIns, house: r.House, store: r.Store, now: r.Now, ssh: r.SSH},
		Programs:     &Programs{store: r.Store, people: people, signIns: signIns},
		Leases:       leases,
		Openings:     openings,
		Pace:         &Pace{perHour: r.ChangesPerHour, now: r.Now},
		Twice:        &Twice{store: r.Store, vault: r.Vault, now: r.Now},
		Health:       health,
		Figures:      &Figures{views: look, health: health, refused: &signIns.refused},
	}
}
