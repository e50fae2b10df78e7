package encoding_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"

	"havvel/internal/export/encoding"
)

// What a name promises, and what a browser makes of the bytes.
func Example() {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	io.WriteString(z, "every lantern on the lane")
	z.Close()

	plain, format := encoding.Named("lane.pack.gz")
	fmt.Println(plain, encoding.Title(format))
	r := encoding.NewReader(&b, format)
	defer r.Close()
	text, err := io.ReadAll(r)
	fmt.Println(string(text), err)
	// Output:
	// lane.pack gzip
	// every lantern on the lane <nil>
}
