package service

import (
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/password"
	"yardbench/internal/reconcile"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// inner is the use cases with what they stand on.
type inner struct {
	*Service
	rooms Rooms
}

// bare is a service over real records, without keeper, yard or git host: for
// what is decided before any of those is asked.
func bare(t *testing.T) (*inner, Actor, Actor) {
	t.Helper()
	dir := t.TempDir()
	st := blank.Open(t, filepath.Join(dir, "a.db"), time.Now)
	v, err := vault.Open(filepath.Join(dir, "key.json"), nil)
	if err != nil {
		t.Fatal(err)
	}
	mirrors := repo.NewMirrors(dir)
	k := reconcile.New(t.Context(), reconcile.Rooms{DataDir: dir, Store: st, Vault: v, Bus: &live.Bus{}, Hub: outside.NewHub(dir), Mirrors: mirrors, Now: time.Now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: v, PortForm: "http://*.ports.localhost:7080", House: &house.Book{}, Now: time.Now}})
	on := Rooms{Store: st, Vault: v, Bus: k.Bus, Hub: k.Hub, Mirrors: mirrors, Keeper: k, Yard: k.Yard, Installation: k.Installation, House: k.House, Sessions: k.Sessions, Address: "http://127.0.0.1:7080"}
	s := &inner{New(on), on}
	if err := s.HouseRules.FirstRules(t.Context(), rules.First); err != nil {
		t.Fatal(err)
	}
	return s, addPersonTo(t, s, "ingrid", policy.Developer), addPersonTo(t, s, "astrid", policy.Operator)
}

// longEnough is a hash of the password "long enough".
var longEnough = sync.OnceValue(func() string { return password.Cheap("long enough") })

func addPersonTo(t *testing.T, s *inner, name string, role policy.Role) Actor {
	t.Helper()
	if err := s.People.AddPerson(t.Context(), store.Person{Name: name, FullName: name, Email: name + "@skerryline.example", Role: role, PasswordHash: longEnough()}); err != nil {
		t.Fatal(err)
	}
	p, err := s.rooms.Store.Read().PersonByName(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return Actor{Person: p}
}

func status(err error) int {
	if p := wire.ProblemOf(err); p != nil {
		return p.Status
	}
	return 0
}

func TestPeopleAndPasswords(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	if err := s.People.AddPerson(ctx, store.Person{Name: "mats", FullName: "Mats", Email: "mats@skerryline.example", Role: "captain"}); err == nil {
		t.Error("a role there is not is given")
	}
	if _, err := HashPassword(t.Context(), "short"); status(err) != 422 {
		t.Errorf("a short password is answered %v", err)
	}
	wrongName, err1 := s.SignIns.SignIn(ctx, wire.SignIn{Name: "nobody", Password: "long enough"}, "cli", Caller{})
	_, err2 := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "wrong"}, "cli", Caller{})
	if status(err1) != 401 || err1.Error() != err2.Error() || wrongName.Token != "" {
		t.Errorf("an unknown name is told apart from a wrong password: %v, %v", err1, err2)
	}
	in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: "long enough"}, "console", Caller{})
	if err != nil || time.Until(in.ExpiresAt) > 12*time.Hour {
		t.Fatalf("signed in as %+v, %v", in, err)
	}
	if a, err := s.SignIns.Authenticate(ctx, in.Token); err != nil || a.Name != "ingrid" {
		t.Errorf("the token is %+v's, %v", a, err)
	}
	for _, token := range []string{"", in.Token[:len(in.Token)-1], in.Token + "x", "yb_"} {
		if _, err := s.SignIns.Authenticate(ctx, token); status(err) != 401 {
			t.Errorf("the token %q is answered %v", token, err)
		}
	}
}

// Who knows the old password sets another: all other sign-ins end, and the old
// one opens nothing.
func TestChangePassword(t *testing.T) {
	s, _, _ := bare(t)
	ctx := t.Context()
	signIn := func(password string) (string, error) {
		in, err := s.SignIns.SignIn(ctx, wire.SignIn{Name: "ingrid", Password: password}, "cli", Caller{})
		return in.Token, err
	}
	here, err := signIn("long enough")
	if err != nil {
		t.Fatal(err)
	}
	there, _ := signIn("long enough")
	a, err := s.SignIns.Authenticate(ctx, here)
	if err != nil {
		t.Fatal(err)
	}
	for _, in := range []wire.PasswordChange{{Old: "wrong", New: "tide over the skerry"}, {Old: "long enough", New: "short"}, {Old: "long enough", New: "ingrid"}} {
		if err := s.SignIns.ChangePassword(ctx, a, in, ""); status(err) != 422 {
			t.Errorf("%+v is answered %v", in, err)
		}
	}
	if err := s.SignIns.ChangePassword(ctx, a, wire.PasswordChange{Old: "long enough", New: "tide over the skerry"}, ""); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SignIns.Authenticate(ctx, here); err != nil {
		t.Errorf("the sign-in that changed it has ended: %v", err)
	}
	if _, err := s.SignIns.Authenticate(ctx, there); status(err) != 401 {
		t.Errorf("another sign-in goes on: %v", err)
	}
	if _, err := signIn("long enough"); status(err) != 401 {
		t.Errorf("the old one is answered %v", err)
	}
	if _, err := signIn("tide over the skerry"); err != nil {
		t.Errorf("the new one is answered %v", err)
	}
	for range 50 { // guessing it is bounded as at the door
		if err = s.SignIns.ChangePassword(ctx, a, wire.PasswordChange{Old: "guess", New: "tide over the skerry"}, "192.0.2.7"); status(err) == 429 {
			return
		}
	}
	t.Errorf("guesses are not bounded: %v", err)
}

// addWorkspace writes a workspace as a launch would have.
func addWorkspace(t *testing.T, s *inner, a Actor, name string, phase lifecycle.Phase) store.Workspace {
	t.Helper()
	ctx := t.Context()
	w := store.Workspace{ID: store.NewID(), OwnerID: a.ID, Name: name, RepositoryID: "r1", Branch: "main", Phase: phase, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, SeededVolume: 1, PortKey: NewPortKey(),
		StewardToken: []byte{1}, Plan: &store.Plan{Commit: "0123456789abcdef", Definition: definition.Definition{Image: "a", Folder: "/workspaces/x"}}}
	err := s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.RepositoryByID(ctx, "r1"); err != nil {
			if err := tx.AddRepository(ctx, store.Repository{ID: "r1", Name: "tide-board", URL: "http://git.skerryline.example/x", DefaultBranch: "main"}); err != nil {
				return err
			}
		}
		return tx.AddWorkspace(ctx, &w)
	})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// NAME, NAME.OWNER, and what one may not see does not exist.
func TestWhoFindsWhat(t *testing.T) {
	s, ingrid, astrid := bare(t)
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	for _, c := range []struct {
		who    Actor
		ref    string
		status int
	}{{ingrid, "tide", 0}, {ingrid, "tide.ingrid", 0}, {astrid, "tide.ingrid", 0}, {astrid, "tide", 404}, {ingrid, "tide.astrid", 404}, {ingrid, "tide.nobody", 404},
		{astrid, "tide.nobody", 404}, {ingrid, "", 404}, {ingrid, "tide.ingrid.x", 404}, {ingrid, "TIDE", 404}} {
		if _, err := s.Workspaces.views.find(t.Context(), c.who, c.ref); status(err) != c.status {
			t.Errorf("%s looking for %q is answered %v", c.who.Name, c.ref, err)
		}
	}
	_, absent := s.Workspaces.views.find(t.Context(), ingrid, "tide.astrid")
	_, none := s.Workspaces.views.find(t.Context(), ingrid, "tide.nobody")
	if strings.ReplaceAll(absent.Error(), "astrid", "nobody") != none.Error() {
		t.Errorf("the answer tells whether somebody exists: %v, %v", absent, none)
	}
	if _, err := s.Workspaces.List(t.Context(), ingrid, WorkspaceQuery{All: true}); status(err) != 403 {
		t.Errorf("a developer's list of everybody's is answered %v", err)
	}
}

// Names for those who name none: free ones, within their bound.
func TestFreeNames(t *testing.T) {
	s, ingrid, astrid := bare(t)
	long := strings.Repeat("a", 37) + "-bb"
	for _, n := range []string{"tide", "tide-2", long} {
		addWorkspace(t, s, ingrid, n, lifecycle.Stopped)
	}
	err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
		for _, c := range []struct {
			who        Actor
			name, want string
		}{{ingrid, "tide", "tide-3"}, {astrid, "tide", "tide"}, {ingrid, long, strings.Repeat("a", 37) + "-2"}} {
			got, err := freeName(t.Context(), tx, c.who.ID, c.name)
			if err != nil || got != c.want || !workspaceName.MatchString(got) {
				t.Errorf("%s launching %s gets %q, %v", c.who.Name, c.name, got, err)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A verb is refused in a phase that does not have it, with what is possible,
// and changes nothing; files are not given up unasked.
func TestVerbsAndPhases(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	for phase, verbs := range map[lifecycle.Phase]map[string]int{
		lifecycle.Removing: {"start": 409, "stop": 409, "rebuild": 409},
		lifecycle.Starting: {"start": 409, "rebuild": 409, "remove": 409},
		lifecycle.Stopped:  {"remove": 409, "use": 409},
		lifecycle.Failed:   {"remove": 409, "use": 409},
	} {
		w := addWorkspace(t, s, ingrid, "in-"+string(phase), phase)
		for verb, want := range verbs {
			var err error
			switch verb {
			case "start":
				_, err = s.Workspaces.Start(ctx, ingrid, w.Name)
			case "stop":
				_, err = s.Workspaces.Stop(ctx, ingrid, w.Name)
			case "rebuild":
				_, err = s.Workspaces.Rebuild(ctx, ingrid, w.Name, wire.Rebuild{})
			case "remove":
				_, err = s.Workspaces.Remove(ctx, ingrid, w.Name, false)
			case "use":
				_, _, err = s.Sessions.Open(ctx, ingrid, w.Name, wire.Run{})
			}
			if status(err) != want {
				t.Errorf("%s while %s is answered %v", verb, phase, err)
			}
		}
		now, err := s.rooms.Store.Read().WorkspaceByID(ctx, w.ID)
		if err != nil || now.Phase != phase || now.Wanted != lifecycle.WantReady {
			t.Errorf("refused verbs left %s as %s, wanted %s, %v", phase, now.Phase, now.Wanted, err)
		}
	}
}
