package testers

import (
	"reflect"
	"testing"
)

// TestOf: the same seed gives the same testers; what they send is in order, so that a host takes all of it; they get stuck where the
// lane is hardest, and some win.
func TestOf(t *testing.T) {
	const crowd = 60
	first, again := Of(11, crowd), Of(11, crowd)
	stuck, won, errors := map[any]int{}, 0, 0
	for i := range first {
		list := first[i].Play()
		if !reflect.DeepEqual(list, again[i].Play()) {
			t.Fatalf("tester %d plays otherwise the second time", i)
		}
		var level any
		for n, e := range list {
			if e.N != n+1 || e.At < 0 || n > 0 && e.At < list[n-1].At {
				t.Fatalf("tester %d: event %d is %+v after %+v", i, n, e, list[max(0, n-1)])
			}
			said, _ := e.Data.(words)
			switch {
			case said["event"] == "level-begun":
				level = said["level"]
			case said["event"] == "level-ended":
				level = nil
				won++
			case e.Kind == "error":
				errors++
			}
		}
		if level != nil {
			stuck[level]++
		}
	}
	for level, n := range stuck {
		if level != 5 && n >= stuck[5] {
			t.Errorf("%d are stuck at night %v, %d at the hardest", n, level, stuck[5])
		}
	}
	if won < crowd || errors == 0 {
		t.Errorf("%d nights were won, %d errors met", won, errors)
	}
	if reflect.DeepEqual(Of(12, 1)[0].Play(), first[0].Play()) {
		t.Error("another seed gives the same")
	}
}
