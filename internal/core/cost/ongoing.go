package cost

import (
	"math/big"
	"math/bits"
	"time"

	"yardbench/internal/core/rules"
)

// Ongoing is what something has cost and goes on to cost, as long as the same
// goes on at the same rates: [Price] at any time from then on, to the last
// micro-unit, without its arithmetic. A list of a thousand asks for it.
type Ongoing struct {
	from        time.Time
	total, idle line
}

// NewOngoing is what sums of time that is over and what goes on come to from now on.
func NewOngoing(over []Sum, open []Interval, rates []Since, now time.Time) Ongoing {
	var total, idle rats
	for k, us := range gathered(over, open, rates, now).sums {
		part := k.perMicrosecond(rates)
		part.Mul(part, new(big.Rat).SetInt64(us))
		total.add(&total.base, part)
		if k.kind == Idle {
			idle.add(&idle.base, part)
		}
	}
	for _, i := range open {
		if i.From.After(now) { // the clock was set back: it costs from then on
			now = i.From
		}
	}
	for _, i := range open {
		k := sumKey{kind: i.Kind, size: i.Size, disk: i.DiskBytes}
		for n, r := range rates {
			if !r.From.After(now) {
				k.version = n
			}
		}
		part := k.perMicrosecond(rates)
		total.add(&total.per, part)
		if k.kind == Idle {
			idle.add(&idle.per, part)
		}
	}
	return Ongoing{now, total.line(), idle.line()}
}

// At is the total and the idle part of it at a time, which does not lie before
// that of its making.
func (r Ongoing) At(now time.Time) (total, idle rules.Money) {
	us := uint64(max(0, now.Sub(r.from).Microseconds()))
	return r.total.at(us), r.idle.at(us)
}

// rats is money, and money for each microsecond, exactly.
type rats struct{ base, per *big.Rat }

func (*rats) add(to **big.Rat, part *big.Rat) {
	if *to == nil {
		*to = new(big.Rat)
	}
	(*to).Add(*to, part)
}

// line is whole + (rest + slope·µs) / under where its numbers are small enough
// for that, and in any case what is exact.
type line struct {
	exact              rats
	whole              int64
	rest, slope, under uint64 // under is 0 where they are not
}

func (r rats) line() line {
	for _, p := range []**big.Rat{&r.base, &r.per} {
		if *p == nil {
			*p = new(big.Rat)
		}
	}
	// The least common multiple of both denominators.
	gcd := new(big.Int).GCD(nil, nil, r.base.Denom(), r.per.Denom())
	under := new(big.Int).Mul(r.base.Denom(), new(big.Int).Div(r.per.Denom(), gcd))
	over := func(x *big.Rat) *big.Int {
		n := new(big.Int).Mul(x.Num(), under)
		return n.Div(n, x.Denom())
	}
	whole, rest := new(big.Int).DivMod(over(r.base), under, new(big.Int))
	slope := over(r.per)
	if under.BitLen() > 62 || !slope.IsUint64() || !whole.IsInt64() {
		return line{exact: r}
	}
	return line{exact: r, whole: whole.Int64(), rest: rest.Uint64(), slope: slope.Uint64(), under: under.Uint64()}
}

func (l line) at(us uint64) rules.Money {
	hi, lo := bits.Mul64(l.slope, us)
	lo, carry := bits.Add64(lo, l.rest, 0)
	if hi += carry; hi >= l.under {
		sum := new(big.Rat).Mul(l.exact.per, new(big.Rat).SetInt(new(big.Int).SetUint64(us)))
		return round(sum.Add(sum, l.exact.base))
	}
	more, rest := bits.Div64(hi, lo, l.under)
	if 2*rest >= l.under { // half away from zero, as [round] does
		more++
	}
	return rules.Money(l.whole + int64(more))
}
