package rulebook

// Site is the rulebook of a host that just keeps files: it wants a folder, and serves it as it is.
func Site(name string, encodings []string, isolation bool) *Rulebook {
	return &Rulebook{
		Format: Format, Name: name, About: "A host that keeps files.",
		Archive: Archive{HandOver: "folder"},
		Serves:  Serves{Encodings: encodings, Isolation: isolation},
	}
}
