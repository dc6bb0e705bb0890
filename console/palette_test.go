package console

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"strconv"
	"testing"
)

// luminance is a colour's relative luminance (WCAG 2.2).
func luminance(hex string) float64 {
	part := func(from int) float64 {
		n, _ := strconv.ParseUint(hex[from:from+2], 16, 8)
		c := float64(n) / 255
		if c <= 0.04045 {
			return c / 12.92
		}
		return math.Pow((c+0.055)/1.055, 2.4)
	}
	return 0.2126*part(1) + 0.7152*part(3) + 0.0722*part(5)
}

func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (math.Max(x, y) + 0.05) / (math.Min(x, y) + 0.05)
}

// Text of every colour is read on the page and on what lies on it, in the light
// and in the dark.
func TestColoursCanBeRead(t *testing.T) {
	text, err := os.ReadFile("src/palette.ts")
	if err != nil {
		t.Fatal(err)
	}
	schemes := regexp.MustCompile(`(light|dark): \{ (paper: .*?) \}`).FindAllStringSubmatch(string(text), -1)
	if len(schemes) != 2 {
		t.Fatalf("the table of colours has %d schemes", len(schemes))
	}
	for _, s := range schemes {
		of := map[string]string{}
		for _, m := range regexp.MustCompile(`(\w+): "(#[0-9a-f]{6})"`).FindAllStringSubmatch(s[2], -1) {
			of[m[1]] = m[2]
		}
		if len(of) != 16 {
			t.Fatalf("%s has the colours %v", s[1], of)
		}
		for _, ground := range []string{"paper", "surface"} {
			for name, colour := range of {
				least := 4.5
				switch name {
				case "paper", "surface":
					continue
				case "accent": // of shapes; on it stand white words
					least = 3
				}
				if c := contrast(colour, of[ground]); c < least {
					t.Errorf("%s: %s on %s has %.2f:1, less than %.1f", s[1], name, ground, c, least)
				}
			}
		}
		if c := contrast("#ffffff", of["accent"]); c < 4.5 {
			t.Errorf("%s: white on the accent has %.2f:1", s[1], c)
		}
	}
	used, err := os.ReadFile("src/theme.ts")
	if err != nil {
		t.Fatal(err)
	}
	hover := regexp.MustCompile(`colorPrimaryHover: "(#[0-9a-f]{6})"`).FindStringSubmatch(string(used))
	if hover == nil || contrast("#ffffff", hover[1]) < 4.5 {
		t.Errorf("white on the accent under a pointer: %v", fmt.Sprint(hover))
	}
}
