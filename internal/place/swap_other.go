//go:build !linux

package place

import "errors"

func swap(string, string) error { return errors.ErrUnsupported }
