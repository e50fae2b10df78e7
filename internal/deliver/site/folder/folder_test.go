package folder

import (
	"testing"

	"havvel/internal/deliver/site/sitetest"
)

func TestConforms(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sitetest.Conforms(t, s)
}
