package inside

import (
	"syscall"
	"time"

	"yardbench/internal/steward"
)

// lefts are what set-up commands have left running.
type lefts struct{ *server }

// leftEvery is how often it is looked at whether what a set-up command left running
// has ended.
const leftEvery = 200 * time.Millisecond

// keep keeps what a set-up command has left running in mind until it ends: no other
// process gets the number of a group that has members.
func (s lefts) keep(pid int, id string, letGo func()) {
	defer letGo()
	if syscall.Kill(-pid, 0) != nil {
		return
	}
	s.mu.Lock()
	h := s.procs[pid]
	h.left = id
	s.procs[pid] = h
	s.mu.Unlock()
	for syscall.Kill(-pid, 0) == nil {
		time.Sleep(leftEvery)
	}
}

// end ends what set-up commands of a moment have left running, and gives their ids.
func (s lefts) end(moment string) (ended steward.Left) {
	s.mu.Lock()
	groups := map[int]string{}
	for pid, h := range s.procs {
		if h.left != "" && momentOf(h.left) == moment {
			groups[pid] = h.left
		}
	}
	s.mu.Unlock()
	for pid, id := range groups {
		_ = syscall.Kill(-pid, syscall.SIGTERM) // it may have ended
		ended.Ended = append(ended.Ended, id)
	}
	for end := time.Now().Add(stopGrace); len(groups) > 0; time.Sleep(20 * time.Millisecond) {
		for pid := range groups {
			if time.Now().After(end) {
				_ = syscall.Kill(-pid, syscall.SIGKILL)
			}
			if syscall.Kill(-pid, 0) != nil || time.Now().After(end.Add(time.Second)) {
				delete(groups, pid)
			}
		}
	}
	return ended
}
