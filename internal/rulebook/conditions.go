package rulebook

// Conditions are what some players have, or lack, that a trial can imitate.
func Conditions() []string {
	return []string{
		"cheap-phone", "no-storage", "dark", "little-motion", "other-language", "no-webgl", "no-webgpu", "context-lost",
		"goes-offline", "portal-blocked", "portal-rejects", "portal-slow", "no-break", "signed-out",
	}
}
