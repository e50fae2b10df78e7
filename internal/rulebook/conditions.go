package rulebook

// Conditions are what some players have, or lack, that a trial can imitate.
func Conditions() []string {
	return []string{
		"cheap-phone", "no-storage", "dark", "little-motion", "other-language", "no-webgl", "no-webgpu", "context-lost",
		"goes-offline", "portal-blocked", "portal-rejects", "portal-slow", "no-break", "signed-out",
	}
}

// Inferable lists the events that can be found out while a game runs that doesn't send them.
func Inferable() []string { return []string{"loading-done", "play-begun", "play-stopped"} }
