package store

import (
	"context"
	"errors"
	"time"
)

type (
	providersReads  struct{ reader }
	providersWrites struct{ *txn }
)

// Provider is an identity provider by which people sign in.
type Provider struct {
	ID, Name, Title string
	Issuer, Client  string
	Secret          []byte // sealed
	Claim, Scopes   string
	MadeBy          string
	CreatedAt       time.Time
}

const providerColumns = "id, name, title, issuer, client, secret, claim, scopes, made_by, created_at"

func scanProvider(scan func(...any) error) (p Provider, err error) {
	var at int64
	err = scan(&p.ID, &p.Name, &p.Title, &p.Issuer, &p.Client, &p.Secret, &p.Claim, &p.Scopes, &p.MadeBy, &at)
	p.CreatedAt = fromMicros(at)
	return p, err
}

// Providers lists them, by name.
func (q providersReads) Providers(ctx context.Context) ([]Provider, error) {
	return list(ctx, q.reader, scanProvider, "SELECT "+providerColumns+" FROM providers ORDER BY name")
}

// ProviderByName finds one.
func (q providersReads) ProviderByName(ctx context.Context, name string) (Provider, error) {
	return one(ctx, q.reader, scanProvider, "SELECT "+providerColumns+" FROM providers WHERE name = ?", name)
}

// PutProvider adds a provider, or writes it anew.
func (tx providersWrites) PutProvider(ctx context.Context, p Provider) error {
	return tx.exec(ctx, "INSERT INTO providers ("+providerColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET title = excluded.title, issuer = excluded.issuer, client = excluded.client, secret = excluded.secret, claim = excluded.claim, scopes = excluded.scopes",
		p.ID, p.Name, p.Title, p.Issuer, p.Client, p.Secret, p.Claim, p.Scopes, p.MadeBy, micros(tx.now))
}

// DropProvider removes one, with all that people are signed in with by it, and forgets
// who they are there.
func (tx providersWrites) DropProvider(ctx context.Context, id string) error {
	if _, err := tx.DropTokensBy(ctx, id, "", ""); err != nil {
		return err
	}
	for _, q := range []string{"DELETE FROM identities WHERE provider_id = ?", "DELETE FROM logouts WHERE provider_id = ?"} {
		if err := tx.exec(ctx, q, id); err != nil {
			return err
		}
	}
	return tx.mustChange(ctx, "DELETE FROM providers WHERE id = ?", id)
}

// PersonAt finds who somebody is that a provider knows.
func (q providersReads) PersonAt(ctx context.Context, provider, subject string) (Person, error) {
	return one(ctx, q.reader, scanPerson, personQuery+"JOIN identities i ON i.person_id = p.id WHERE i.provider_id = ? AND i.subject = ?", provider, subject)
}

// PeopleByEmail finds those who have an address, whatever the case it is written in.
func (q providersReads) PeopleByEmail(ctx context.Context, email string) ([]Person, error) {
	return list(ctx, q.reader, scanPerson, personQuery+"WHERE p.email = ? COLLATE NOCASE AND p.program = 0 ORDER BY p.name LIMIT 2", email)
}

// PutIdentity notes who somebody is at a provider, and that they came by it now.
func (tx providersWrites) PutIdentity(ctx context.Context, provider, subject, person string) error {
	return tx.exec(ctx, "INSERT INTO identities (provider_id, subject, person_id, at) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET at = excluded.at", provider, subject, person, micros(tx.now))
}

// ProvidersOf are the ids of the providers that somebody is known to.
func (q providersReads) ProvidersOf(ctx context.Context, person string) ([]string, error) {
	return list(ctx, q.reader, func(scan func(...any) error) (id string, err error) { err = scan(&id); return id, err }, "SELECT provider_id FROM identities WHERE person_id = ? ORDER BY provider_id", person)
}

// DropTokensBy ends what people are signed in with by a provider: in one session
// there, of one person it knows by a subject, or all. It gives whose those were.
func (tx providersWrites) DropTokensBy(ctx context.Context, provider, session, subject string) ([]string, error) {
	where, args := "provider_id = ? AND provider_id <> ''", []any{provider} // by its index
	if session != "" {
		where, args = where+" AND provider_session = ?", append(args, session)
	}
	if subject != "" {
		where, args = where+" AND person_id IN (SELECT person_id FROM identities WHERE provider_id = ? AND subject = ?)", append(args, provider, subject)
	}
	people, err := list(ctx, tx.Q.reader, func(scan func(...any) error) (id string, err error) { err = scan(&id); return id, err }, "SELECT DISTINCT person_id FROM tokens WHERE "+where, args...)
	if err != nil {
		return nil, err
	}
	for _, p := range people {
		tx.shift(p)
	}
	return people, tx.exec(ctx, "DELETE FROM tokens WHERE "+where, args...)
}

// OnceLogout notes a logout token's name; false where it was noted before.
func (tx providersWrites) OnceLogout(ctx context.Context, provider, name string, keep time.Duration) (bool, error) {
	if err := tx.exec(ctx, "DELETE FROM logouts WHERE at < ?", micros(tx.now.Add(-keep))); err != nil {
		return false, err
	}
	err := tx.mustChange(ctx, "INSERT INTO logouts (provider_id, name, at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", provider, name, micros(tx.now))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Operators counts those who may sign in as operators.
func (q providersReads) Operators(ctx context.Context) (int, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (n int, err error) { err = scan(&n); return n, err }, "SELECT count(*) FROM people WHERE role = 'operator' AND closed_at IS NULL AND program = 0")
}
