package release

import "testing"

func TestOlder(t *testing.T) {
	for _, test := range []struct {
		this, than string
		want       bool
	}{
		{"1.2.0", "1.10.0", true},
		{"v1.10", "1.2.3", false},
		{"1.2.0", "1.2.0", false},
		{"1.2.0-rc.1", "1.2.0", true},
		{"v1.2.0-5-gabc", "1.2", true},
		{"built from source", "9.0.0", false},
		{"3f2c1aa-dirty", "9.0.0", false},
	} {
		if got := older(test.this, test.than); got != test.want {
			t.Errorf("%s older than %s: %v", test.this, test.than, got)
		}
	}
}
