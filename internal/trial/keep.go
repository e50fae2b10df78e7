package trial

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"havvel/internal/place"
)

// file is where the last result for a destination is kept, in a project's folder.
func file(folder, destination string) string {
	if destination == "" {
		destination = "any"
	}
	return filepath.Join(folder, ".havvel", "trials", destination+".json.gz")
}

// Keep keeps a result as the last one for its destination.
func (r *Result) Keep(folder string) error {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(r); err != nil {
		return fmt.Errorf("keeping the trial: %w", err)
	}
	if err := z.Close(); err != nil {
		return fmt.Errorf("keeping the trial: %w", err)
	}
	return place.Bytes(file(folder, r.Destination), b.Bytes())
}

// Last returns the last result for a destination, or nil when there is none that can be read.
func Last(folder, destination string) *Result {
	data, err := os.ReadFile(file(folder, destination))
	if err != nil {
		return nil
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil
	}
	var r Result
	if json.NewDecoder(z).Decode(&r) != nil || r.Format != Format {
		return nil
	}
	return &r
}
