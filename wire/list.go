package wire

// List is one part of a list. AsOf is from before it was read: who watches the
// events after it misses nothing that the list does not say, and may be told of
// some that it says.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Ask with it as after for what follows; without it nothing does"`
	AsOf  int64  `json:"as_of" doc:"The number of the newest journal entry before it was read: events after it go on from here"`
}
