package cli

import "testing"

func TestWaysOfForward(t *testing.T) {
	for _, c := range []struct {
		args, into []string
		want       []way
	}{
		{[]string{"8000"}, nil, []way{{there: 8000, here: 8000}}},
		{[]string{"8000:9000", "5353/udp", "53:0/udp"}, nil, []way{{there: 8000, here: 9000}, {there: 5353, here: 5353, udp: true}, {there: 53, udp: true}}},
		{nil, []string{"3000", "3000:4000"}, []way{{there: 3000, here: 3000, into: true}, {there: 4000, here: 3000, into: true}}},
		{[]string{"0"}, nil, nil}, {[]string{"x"}, nil, nil}, {[]string{"80:x"}, nil, nil}, {[]string{"70000"}, nil, nil}, {[]string{"80/tcp"}, nil, nil},
		{nil, []string{"53/udp"}, nil}, {nil, []string{"80:0"}, nil}, {nil, []string{"0:80"}, nil},
	} {
		got, err := waysOf(c.args, c.into)
		if (err == nil) != (c.want != nil) || err == nil && len(got) != len(c.want) {
			t.Errorf("%v %v is read as %+v, %v", c.args, c.into, got, err)
			continue
		}
		for i := range c.want {
			if got[i] != c.want[i] {
				t.Errorf("%v %v is read as %+v", c.args, c.into, got[i])
			}
		}
	}
}
