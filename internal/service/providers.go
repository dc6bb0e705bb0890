package service

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/identity"
	"yardbench/internal/password"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Providers are the use cases of identity providers: which there are, and people who
// sign in by them.
type Providers struct {
	address  string
	house    *house.Book
	store    *store.Store
	vault    *vault.Vault
	room     *identity.Room
	passkeys *Passkeys
	now      func() time.Time
	told     password.Attempts // of sign-outs over there that were not to be believed, by who tells
}

const (
	maxProviders = 20
	// arrivalMost is how long somebody may be at a provider to sign in.
	arrivalMost = 15 * time.Minute
	logoutsKept = time.Hour // longer than a logout token is taken
)

// Doors tells whoever asks how people sign in here.
func (s *Providers) Doors(ctx context.Context) (wire.SignInDoors, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.SignInDoors{}, err
	}
	rows, err := s.store.Read().Providers(ctx)
	_, passkeys := s.passkeys.door()
	out := wire.SignInDoors{Passwords: !house.SignIn.NoPasswords, Passkeys: passkeys, Providers: []wire.SignInByDoor{}}
	for _, p := range rows {
		if _, ok := house.SignIn.Providers[p.Name]; ok { // another lets nobody in
			out.Providers = append(out.Providers, wire.SignInByDoor{Name: p.Name, Title: p.Title, Begin: "/api/v1/sign-in/" + p.Name + "/begin"})
		}
	}
	return out, err
}

// Providers lists them.
func (s *Providers) Providers(ctx context.Context, a Actor) ([]wire.Provider, error) {
	if !a.may(policy.SeeProviders) {
		return nil, denied(a, "see identity providers")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Read().Providers(ctx)
	out := []wire.Provider{}
	for _, p := range rows {
		out = append(out, s.view(p, house.SignIn))
	}
	return out, err
}

func (s *Providers) view(p store.Provider, signIn rules.SignIn) wire.Provider {
	at := s.address + "/api/v1/sign-in/" + p.Name
	_, ruled := signIn.Providers[p.Name]
	return wire.Provider{Name: p.Name, Title: p.Title, Issuer: p.Issuer, Client: p.Client, GroupsClaim: p.Claim, Scopes: strings.Fields(p.Scopes), Callback: at + "/return", SignedOut: at + "/signed-out", AfterOver: s.address + "/", Rules: ruled, CreatedAt: p.CreatedAt}
}

// Put adds a provider, or writes it anew. It is asked what it says of itself before.
func (s *Providers) Put(ctx context.Context, a Actor, name string, in wire.PutProvider) (wire.Provider, error) {
	if !a.may(policy.ChangeProviders) {
		return wire.Provider{}, denied(a, "change identity providers")
	}
	all, err := s.store.Read().Providers(ctx)
	if err != nil {
		return wire.Provider{}, err
	}
	p := store.Provider{ID: store.NewID(), Name: name, MadeBy: a.ID, CreatedAt: s.now().UTC()}
	old := false
	for _, o := range all {
		if o.Name == name {
			p, old = o, true
		}
	}
	u, uerr := url.Parse(in.Issuer)
	title := cmp.Or(strings.TrimSpace(in.Title), name)
	switch {
	case !rules.ProviderName(name):
		return wire.Provider{}, invalid(quote(name)+" is no name of a provider", "use lower-case letters, digits and dashes, as in skerry-id")
	case !old && len(all) >= maxProviders:
		return wire.Provider{}, conflict("too-many", fmt.Sprintf("there are %d identity providers already", len(all)), "remove one first")
	case uerr != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" || u.Fragment != "" || u.User != nil:
		return wire.Provider{}, invalid(quote(in.Issuer)+" is no issuer", "give the address of the provider, as https://id.skerryline.example")
	case hasControl(title) || hasControl(in.Client) || in.Client == "":
		return wire.Provider{}, invalid("the client is missing, or holds a character that is no text", "give what the provider knows this service by")
	case in.Secret == "" && !old:
		return wire.Provider{}, invalid("the client's secret is missing", "give the one that the provider has for it")
	case in.Secret == "" && in.Issuer != p.Issuer:
		return wire.Provider{}, invalid("the client's secret is missing", "a secret of one issuer is not told to another: give it again")
	}
	for _, scope := range in.Scopes {
		if scope == "" || strings.ContainsAny(scope, " \"\\") || hasControl(scope) {
			return wire.Provider{}, invalid(quote(scope)+" is no scope", "give words")
		}
	}
	p.Title, p.Issuer, p.Client, p.Scopes, p.Claim = title, in.Issuer, in.Client, strings.Join(in.Scopes, " "), "groups"
	if in.GroupsClaim != nil {
		p.Claim = *in.GroupsClaim
	}
	if err := s.room.Try(ctx, identity.Provider{Issuer: p.Issuer}); err != nil {
		return wire.Provider{}, invalid("there is no identity provider at "+p.Issuer+": "+err.Error(), "look what it has at "+p.Issuer+"/.well-known/openid-configuration")
	}
	if in.Secret != "" {
		if p.Secret, err = s.vault.Seal(in.Secret, "provider", p.ID); err != nil {
			return wire.Provider{}, err
		}
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Provider{}, err
	}
	return s.view(p, house.SignIn), s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutProvider(ctx, p); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, "", a.ID, journal.ProviderPut{Name: p.Name, Issuer: p.Issuer, Client: p.Client})
	})
}

// Drop removes a provider; whoever is signed in by it is not any more.
func (s *Providers) Drop(ctx context.Context, a Actor, name string) error {
	if !a.may(policy.ChangeProviders) {
		return denied(a, "remove identity providers")
	}
	p, err := s.named(ctx, name)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropProvider(ctx, p.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, p.ID, "", a.ID, journal.ProviderDropped{Name: p.Name})
	})
}

func (s *Providers) named(ctx context.Context, name string) (store.Provider, error) {
	p, err := s.store.Read().ProviderByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return p, notFound("identity provider", name, "see them", fault.Do("list-providers", ""))
	}
	return p, err
}

// asked is a provider as it is asked.
func (s *Providers) asked(p store.Provider) (identity.Provider, error) {
	secret, err := s.vault.Open(p.Secret, "provider", p.ID)
	return identity.Provider{Issuer: p.Issuer, Client: p.Client, Secret: secret, Callback: s.address + "/api/v1/sign-in/" + p.Name + "/return", Scopes: strings.Fields(p.Scopes), GroupsClaim: p.Claim}, err
}

// arrival is what a browser keeps, sealed, while it is at a provider.
type arrival struct {
	identity.Arrival
	To    string
	Until time.Time
}

// Begin begins a sign-in: where the browser goes, and what it keeps meanwhile.
func (s *Providers) Begin(ctx context.Context, name, to string, again bool) (address, kept string, err error) {
	p, err := s.named(ctx, name)
	if err != nil {
		return "", "", err
	}
	ask, err := s.asked(p)
	if err != nil {
		return "", "", err
	}
	v := arrival{To: within(to), Until: s.now().Add(arrivalMost)}
	if address, v.Arrival, err = s.room.Begin(ctx, ask, again); err != nil {
		return "", "", s.failed(p, err)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return "", "", err
	}
	sealed, err := s.vault.Seal(string(text), "arrival", p.ID)
	return address, base64.RawURLEncoding.EncodeToString(sealed), err
}

// within is a page of the console that somebody wants to come to; "/" where it is none.
func within(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\") || hasControl(to) || len(to) > 2000 {
		return "/"
	}
	if u, err := url.Parse(to); err != nil || u.Host != "" || u.Scheme != "" || strings.HasPrefix(path.Clean(u.Path), "/api/") {
		return "/"
	}
	return to
}

// failed says what went wrong at a provider. What it said stands in the log.
func (s *Providers) failed(p store.Provider, err error) error {
	slog.Warn("a sign-in by an identity provider failed", "provider", p.Name, "error", err)
	switch {
	case errors.Is(err, identity.ErrAway):
		return &fault.Fault{Class: fault.Away, Kind: "provider-away", Detail: p.Title + " does not answer as an identity provider", Next: "try again; an operator can look at the service's log"}
	case errors.Is(err, identity.ErrRefused):
		return stranger("provider", p.Title+" let nobody in", "try again")
	case errors.Is(err, identity.ErrUntrusted):
		return stranger("provider", "what "+p.Title+" says is not to be believed", "begin anew; an operator can look at the service's log")
	}
	return err
}

// Return takes what somebody came back with from a provider, and signs them in to the
// console. to is where they wanted to go.
func (s *Providers) Return(ctx context.Context, name, kept string, q url.Values, from Caller) (out wire.SignedIn, to string, err error) {
	p, err := s.named(ctx, name)
	if err != nil {
		return out, "/", err
	}
	var v arrival
	sealed, err := base64.RawURLEncoding.DecodeString(kept)
	if err == nil {
		var text string
		if text, err = s.vault.Open(sealed, "arrival", p.ID); err == nil {
			err = json.Unmarshal([]byte(text), &v)
		}
	}
	if err != nil || s.now().After(v.Until) {
		return out, "/", stranger("provider", "this sign-in was begun elsewhere, or too long ago", "begin anew")
	}
	ask, err := s.asked(p)
	if err != nil {
		return out, v.To, err
	}
	who, err := s.room.Return(ctx, ask, v.Arrival, q)
	if err != nil {
		return out, v.To, s.failed(p, err)
	}
	out, err = s.arrived(ctx, p, who, from)
	return out, v.To, err
}

// arrived signs in whom a provider knows: the one it knew before; else whose address
// it has verified, where that is one person's; else somebody new. What their groups
// come to by the house rules they are from now on.
func (s *Providers) arrived(ctx context.Context, p store.Provider, who identity.Who, from Caller) (out wire.SignedIn, err error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return out, err
	}
	place, ok := house.SignIn.Providers[p.Name].Place(who.Groups)
	refused := stranger("provider", p.Title+" knows you, and the house rules have no place for you", "ask an operator: none of your groups stands under sign_in.providers."+p.Name)
	closed := false
	t := store.Token{ID: store.NewID(), Door: "console", ProviderID: p.ID, Session: who.Session, ExpiresAt: s.now().Add(house.SignIn.Console.Longest).UTC(), Place: from.Place, Client: from.client()}
	token, hash := newToken("yb_")
	t.Hash = hash
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		person, err := s.known(ctx, tx, p, who)
		switch fresh := errors.Is(err, store.ErrNotFound); {
		case err != nil && !fresh:
			return err
		case !fresh && person.Left(tx.Now()):
			closed = true
			return nil
		case !ok:
			if fresh {
				return nil
			}
			_, err := tx.DropTokensBy(ctx, p.ID, "", who.Subject) // what they came by before stands on nothing
			return err
		case fresh:
			if person, err = s.newcomer(ctx, tx, p, who, place); err != nil {
				return err
			}
		default:
			if err := s.placed(ctx, tx, p, &person, place); err != nil {
				return err
			}
		}
		t.PersonID = person.ID
		if err := tx.PutIdentity(ctx, p.ID, who.Subject, person.ID); err != nil {
			return err
		}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		out = wire.SignedIn{Person: personView(person), Token: token, ExpiresAt: t.ExpiresAt}
		return tx.Journal(ctx, person.ID, person.ID, person.ID, journal.SignedIn{Door: t.Door, Provider: p.Name, Place: t.Place})
	})
	switch {
	case err != nil:
		return wire.SignedIn{}, err
	case closed:
		return out, stranger("provider", "your account here is closed", "ask an operator")
	case !ok:
		return out, refused
	}
	return out, nil
}

func (s *Providers) known(ctx context.Context, tx *store.Tx, p store.Provider, who identity.Who) (store.Person, error) {
	person, err := tx.PersonAt(ctx, p.ID, who.Subject)
	if !errors.Is(err, store.ErrNotFound) || !who.Verified || who.Email == "" {
		return person, err
	}
	same, err := tx.PeopleByEmail(ctx, who.Email)
	if err != nil || len(same) != 1 {
		return person, cmp.Or(err, store.ErrNotFound)
	}
	// Whom the provider knows by another subject is not taken over by a second one.
	by, err := tx.ProvidersOf(ctx, same[0].ID)
	for _, id := range by {
		if id == p.ID {
			return person, store.ErrNotFound
		}
	}
	return same[0], err
}

// newcomer takes somebody in.
func (s *Providers) newcomer(ctx context.Context, tx *store.Tx, p store.Provider, who identity.Who, place rules.Placed) (store.Person, error) {
	person := store.Person{ID: store.NewID(), FullName: printable(cmp.Or(who.FullName, who.Name), 120), Email: who.Email, Role: place.Role}
	mailbox, _, _ := strings.Cut(who.Email, "@")
	base := plainName(cmp.Or(who.Name, mailbox, who.FullName))
	for n := 1; ; n++ {
		person.Name = base
		if n > 1 {
			number := fmt.Sprint(n)
			person.Name = base[:min(len(base), 32-len(number))] + number
		}
		if _, err := tx.PersonByName(ctx, person.Name); errors.Is(err, store.ErrNotFound) {
			break
		} else if err != nil {
			return person, err
		}
	}
	person.FullName = cmp.Or(person.FullName, person.Name)
	if checkAccount(person) != nil { // the provider has no address that can stand on commits
		person.Email = person.Name + "@people.invalid" // RFC 2606: it leads nowhere
	}
	var err error
	if person.TeamID, person.Team, err = s.teamNamed(ctx, tx, p, place.Team); err != nil {
		return person, err
	}
	if err := tx.AddPerson(ctx, person); err != nil {
		return person, err
	}
	if person.Also, err = s.also(ctx, tx, p, place, person.TeamID); err == nil {
		err = tx.SetAlso(ctx, person.ID, person.Also)
	}
	if err != nil {
		return person, err
	}
	return person, tx.Journal(ctx, person.ID, person.ID, p.ID, journal.PersonAdded{Role: person.Role, Team: person.Team, Provider: p.Name})
}

// teamNamed finds a team, and makes it where there is none.
func (s *Providers) teamNamed(ctx context.Context, tx *store.Tx, p store.Provider, name string) (id, called string, err error) {
	if name == "" {
		return "", "", nil
	}
	t, err := tx.TeamByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		t = store.Team{ID: store.NewID(), Name: name}
		if err = tx.AddTeam(ctx, t); err == nil {
			t, err = tx.TeamByName(ctx, name)
		}
		if err == nil {
			err = tx.Journal(ctx, t.ID, "", p.ID, journal.TeamAdded{Name: t.Name})
		}
	}
	return t.ID, t.Name, err
}

// placed gives somebody the role and the team that a provider's groups come to. The
// last operator stays one: somebody must be left who can mend the rules.
func (s *Providers) placed(ctx context.Context, tx *store.Tx, p store.Provider, person *store.Person, place rules.Placed) error {
	role := place.Role
	if person.Guest != nil { // what they may is said with their access
		return nil
	}
	if person.Role == policy.Operator && role != policy.Operator {
		n, err := tx.Operators(ctx)
		if err != nil {
			return err
		}
		if n < 2 {
			slog.Warn("the last operator stays one, whatever an identity provider says", "person", person.Name, "provider", p.Name)
			role = policy.Operator
		}
	}
	id, name, also := person.TeamID, person.Team, person.Also
	if place.Team != "" {
		var err error
		if id, name, err = s.teamNamed(ctx, tx, p, place.Team); err != nil {
			return err
		}
		if also, err = s.also(ctx, tx, p, place, id); err != nil {
			return err
		}
	}
	if role == policy.Auditor {
		also = nil
	}
	if role == person.Role && id == person.TeamID && slices.Equal(also, person.Also) {
		return nil
	}
	if role != person.Role {
		if err := tx.SetRole(ctx, person.ID, role); err != nil {
			return err
		}
	}
	if id != person.TeamID {
		if err := tx.SetTeam(ctx, person.ID, id); err != nil {
			return err
		}
	}
	if !slices.Equal(also, person.Also) {
		if err := tx.SetAlso(ctx, person.ID, also); err != nil {
			return err
		}
	}
	person.Role, person.TeamID, person.Team, person.Also = role, id, name, also
	return tx.Journal(ctx, person.ID, person.ID, p.ID, journal.PersonChanged{Role: role, Team: name, Also: alsoIn(*person), Provider: p.Name})
}

// also finds the teams that somebody's groups give beside their own, by name.
func (s *Providers) also(ctx context.Context, tx *store.Tx, p store.Provider, place rules.Placed, own string) (out []store.Membership, err error) {
	for _, a := range place.Also {
		m := store.Membership{Leads: a.Leads}
		if m.TeamID, m.Team, err = s.teamNamed(ctx, tx, p, a.Team); err != nil {
			return nil, err
		}
		if m.TeamID != own && !slices.ContainsFunc(out, func(o store.Membership) bool { return o.TeamID == m.TeamID }) {
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(a, b store.Membership) int { return cmp.Compare(a.Team, b.Team) })
	return out, nil
}

// SignedOut ends what people are signed in with by a provider, where it says that they
// have signed out there.
func (s *Providers) SignedOut(ctx context.Context, name, raw string, from Caller) error {
	believed, _, ok := s.told.Begin("signed-out "+from.Place, from.Place, s.now())
	if !ok {
		return tooMany("too much was told that is not to be believed", 5*time.Minute)
	}
	p, err := s.named(ctx, name)
	if err != nil {
		return err
	}
	ask, err := s.asked(p)
	if err != nil {
		return err
	}
	subject, session, once, err := s.room.SignedOut(ctx, ask, raw)
	if err != nil {
		return s.failed(p, err)
	}
	believed()
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if first, err := tx.OnceLogout(ctx, p.ID, once, logoutsKept); err != nil || !first {
			return err
		}
		people, err := tx.DropTokensBy(ctx, p.ID, session, subject)
		for _, person := range people {
			if err == nil {
				err = tx.Journal(ctx, person, person, p.ID, journal.SignedOut{})
			}
		}
		return err
	})
}

// Over is where a browser signs out at a provider; "" where there is no such place.
func (s *Providers) Over(ctx context.Context, name string) string {
	p, err := s.named(ctx, name)
	if err != nil {
		return ""
	}
	return s.room.Over(ctx, identity.Provider{Issuer: p.Issuer, Client: p.Client}, s.address+"/")
}

// printable is a text as it may be shown, of at most so many bytes.
func printable(text string, most int) string {
	text = strings.TrimSpace(strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, "")))
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

var latin = strings.NewReplacer("ø", "o", "æ", "ae", "å", "a", "ß", "ss", "đ", "d", "ł", "l", "þ", "th", "ð", "d", "œ", "oe")

// plainName makes a name to sign in with of what a provider calls somebody.
func plainName(text string) string {
	text, _, _ = strings.Cut(text, "@")
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '.', r == '-':
			return r
		case r == '_', r == ' ':
			return '-'
		}
		return -1
	}, norm.NFKD.String(latin.Replace(strings.ToLower(text))))
	name = marks.ReplaceAllStringFunc(strings.TrimLeft(name, ".-0123456789"), func(s string) string { return s[:1] })
	return cmp.Or(strings.TrimRight(name[:min(len(name), nameMost)], ".-"), "person")
}

var marks = regexp.MustCompile(`[.-]{2,}`)

// whoOf is somebody of a directory, as a provider would tell of them.
func whoOf(in Account, fullName string) identity.Who {
	return identity.Who{Name: in.UserName, FullName: fullName, Email: in.Email}
}
