package store

import "context"

// Team is a group of people whose money and limits belong together.
type Team struct{ ID, Name string }

func scanTeam(scan func(...any) error) (t Team, err error) { return t, scan(&t.ID, &t.Name) }

// AddTeam adds a team.
func (tx peopleWrites) AddTeam(ctx context.Context, t Team) error {
	return tx.exec(ctx, "INSERT INTO teams (id, name, created_at) VALUES (?, ?, ?)", t.ID, t.Name, micros(tx.now))
}

// Teams lists the teams, by name.
func (q peopleReads) Teams(ctx context.Context) ([]Team, error) {
	return list(ctx, q.reader, scanTeam, "SELECT id, name FROM teams ORDER BY name")
}

// TeamByName finds a team.
func (q peopleReads) TeamByName(ctx context.Context, name string) (Team, error) {
	return one(ctx, q.reader, scanTeam, "SELECT id, name FROM teams WHERE name = ? COLLATE NOCASE", name)
}
