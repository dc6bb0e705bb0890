package lifecycle

import (
	"fmt"
	"strings"
	"time"

	"yardbench/internal/core/definition"
)

// Spent is what a step of a launch took.
type Spent struct {
	Key, Title string
	Took       time.Duration
	Cached     bool
}

// worth is what is worth a hint: a step that takes so long, and so much of
// the whole.
const worth = 3 * time.Second

// Hint says where a launch's time could be saved; "" where it went as it
// should. planned tells that images of the repository are prepared ahead.
func Hint(steps []Spent, prepared, planned bool) string {
	var total time.Duration
	var most Spent
	for _, s := range steps {
		total += s.Took
		if s.Took > most.Took && !s.Cached && s.Key != "set-up/"+string(definition.Personal) { // which holds nobody up
			most = s
		}
	}
	if most.Took < worth || most.Took*5 < total*2 {
		return ""
	}
	spent := fmt.Sprintf("%s took %s of %s", most.Title, most.Took.Round(100*time.Millisecond), total.Round(100*time.Millisecond))
	moment, setUp := strings.CutPrefix(most.Key, "set-up/")
	switch {
	case setUp && definition.Moment(moment) == definition.Services:
		return spent + ": a service is slow to be well; its healthcheck may ask too seldom"
	case setUp && definition.Moment(moment) != definition.Luggage && !definition.Moment(moment).BeforePerson():
		return spent + ": what in it is not the person's could move to onCreateCommand or updateContentCommand, which a prebuild runs ahead"
	case (setUp || most.Key == string(MakeImage)) && !prepared && !planned:
		return spent + ": a prebuild plan would have it done ahead"
	case (setUp || most.Key == string(MakeImage)) && !prepared:
		return spent + ": no prepared image served this launch; see why in its facts"
	case most.Key == string(Clone):
		return spent + ": the repository is large; a prepared image brings its files along"
	}
	return ""
}

// Typical is how long something usually takes, and how long when it is slow: the
// median and the 95th of a hundred, of times in their order. None is 0.
func Typical(sorted []time.Duration) (usual, slow time.Duration) {
	n := len(sorted)
	if n == 0 {
		return 0, 0
	}
	return sorted[n/2], sorted[n*19/20]
}
