package site

import "time"

// SetBeat makes signs of life come quicker.
func SetBeat(s *Site, d time.Duration) { s.beat = d }
