// Package trouble judges what of an installation keeps it from being well, or soon will.
// It is a computation over what was seen, and names nobody.
package trouble

import (
	"fmt"
	"time"

	"yardbench/internal/core/rules"
)

// The kinds of trouble. Who asks a service how it is is told these words.
const (
	YardAway        = "yard away"
	DiskFull        = "disk full"
	DiskNearlyFull  = "disk nearly full"
	DiskFilling     = "disk filling"
	YardFilling     = "yard filling"
	StewardsAway    = "stewards away"
	WebhooksFailing = "webhooks failing"
	PrebuildsFail   = "prebuilds fail"
	KeysGone        = "keys gone"
	ClockBack       = "clock back"
	CertificateEnds = "certificate ends"
	TrailBehind     = "trail behind"
)

// Kinds are all of them, the gravest first.
var Kinds = []string{YardAway, DiskFull, DiskNearlyFull, KeysGone, CertificateEnds, TrailBehind, ClockBack, StewardsAway, DiskFilling, YardFilling, WebhooksFailing, PrebuildsFail}

// Disk is the room of a file system, for who is not root. The zero value is one that
// nothing is known of.
type Disk struct{ FreeBytes, SizeBytes uint64 }

// under tells whether less than 1/part is left, of a large disk less than most.
func (d Disk) under(part, most uint64) bool {
	return d.SizeBytes > 0 && d.FreeBytes < min(d.SizeBytes/part, most)
}

// Filling tells whether less than a tenth is left; of a large disk, less than 10 GiB.
func (d Disk) Filling() bool { return d.under(10, 10<<30) }

// NearlyFull tells whether less than a fiftieth is left; of a large disk, less than
// 1 GiB. Nothing that makes much is begun then.
func (d Disk) NearlyFull() bool { return d.under(50, 1<<30) }

// Seen is what was seen at one moment.
type Seen struct {
	Now               time.Time
	YardAway          bool
	Full              bool // nothing could be written, and there is no room yet
	Data, Images      Disk // where the data is, and where the yard keeps its images
	Up, Away          int  // workspaces that run, and those of them whose stewards are away
	Webhooks          int  // that were not taken for FailingAfter
	Plans, FailedLast int  // prebuild plans, and those of them whose last run failed
	KeyGone           string
	TrailBehind       time.Time // since when the second place has not followed; zero where it has
	CertificateEnds   time.Time // of the door; zero where it has none
	NewestEntry       time.Time // of the journal; zero for none
}

const (
	// FailingAfter is how long a webhook is not taken before that is trouble.
	FailingAfter = 15 * time.Minute
	// RenewBefore is how long before its end a certificate is to be another one.
	RenewBefore = 14 * 24 * time.Hour
	// BehindMost is how long the second place may not have followed.
	BehindMost = time.Minute
	// Back is how far the clock may be behind the journal's newest entry.
	Back = time.Minute
)

// Trouble is one thing that is wrong. A grave one is felt by whoever works: something
// that they ask for is refused, or waits.
type Trouble struct {
	Kind, Text string
	Grave      bool
}

// Judge tells what is wrong, the gravest first, each kind at most once. What the yard
// holds is not judged while it is away.
func Judge(s Seen) (out []Trouble) {
	say := func(is bool, kind, text string, grave bool) {
		if is {
			out = append(out, Trouble{kind, text, grave})
		}
	}
	left := rules.Bytes(int64(s.Data.FreeBytes >> 20 << 20))
	nearly := !s.Full && s.Data.NearlyFull()
	say(s.YardAway, YardAway, "the yard does not answer: what runs in it may go on; what is asked for waits, and is done when it answers", true)
	say(s.Full, DiskFull, "the service's disk is full: nothing can be written", true)
	say(nearly, DiskNearlyFull, fmt.Sprintf("the service's disk has only %s left: nothing new is launched or prepared until there is room; what there is goes on", left), true)
	say(s.KeyGone != "", KeysGone, "the key file "+s.KeyGone+" is missing or cannot be read: the service goes on with what it has read, and does not start again without it; put it back from where you keep it", false)
	if left := s.CertificateEnds.Sub(s.Now); !s.CertificateEnds.IsZero() && left < RenewBefore {
		how := "ends in " + rules.Duration(left.Truncate(time.Minute))
		if left <= 0 {
			how = "has ended"
		}
		say(true, CertificateEnds, "the certificate of the service's door "+how+": renew it in its files, which are read anew by themselves", false)
	}
	if behind := s.Now.Sub(s.TrailBehind); !s.TrailBehind.IsZero() && behind > BehindMost {
		say(true, TrailBehind, "the second place has not followed the records for "+rules.Duration(behind.Truncate(time.Minute))+": were this machine gone now, that would be gone with it; the log says why", false)
	}
	say(s.Now.Before(s.NewestEntry.Add(-Back)), ClockBack, fmt.Sprintf("the service's clock is %s behind the newest entry of its journal: it was set back, or was ahead; set it right", s.NewestEntry.Sub(s.Now).Round(time.Second)), false)
	say(!s.YardAway && s.Away >= 2 && 2*s.Away > s.Up, StewardsAway, fmt.Sprintf("of %d workspaces that run %d cannot be entered: their stewards are away", s.Up, s.Away), false)
	say(!s.Full && !nearly && s.Data.Filling(), DiskFilling, fmt.Sprintf("the service's disk has %s left: make room before nothing can be launched any more", left), false)
	say(!s.YardAway && s.Images.Filling(), YardFilling, fmt.Sprintf("the disk of the yard's images and containers has %s left: drop images that nobody uses, or make room", rules.Bytes(int64(s.Images.FreeBytes>>20<<20))), false)
	say(s.Webhooks > 0, WebhooksFailing, fmt.Sprintf("%s not taken for more than %d min; what they were to be told is kept, and told in order", are(s.Webhooks, "webhook"), FailingAfter/time.Minute), false)
	say(s.FailedLast > 0, PrebuildsFail, fmt.Sprintf("of %s the last run of %d failed: launches take what was prepared before, or take longer", plans(s.Plans), s.FailedLast), false)
	return out
}

func are(n int, what string) string {
	if n == 1 {
		return "one " + what + " is"
	}
	return fmt.Sprintf("%d %ss are", n, what)
}

func plans(n int) string {
	if n == 1 {
		return "one prebuild plan"
	}
	return fmt.Sprintf("%d prebuild plans", n)
}
