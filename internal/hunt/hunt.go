// Package hunt tries the keeper, the service and the records, with a simulated
// yard, under one seeded scheduler that owns every answer of the yard, every
// commit, every timer and the clock: the same seed is the same story, to the
// last step. It has nothing but tests; docs/reliability.md tells of it.
package hunt
