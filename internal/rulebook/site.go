package rulebook

// Site is the rulebook of a host that just keeps files: it wants a folder, and serves it as it is.
func Site(name string, encodings []string, isolation bool) *Rulebook {
	r := &Rulebook{
		Format: Format, Name: name, About: "A host that keeps files.",
		Archive: Archive{HandOver: "folder"},
		Serves:  Serves{Encodings: encodings, Isolation: isolation},
	}
	r.Pictures = []Picture{{ // for previews of its link, in the size that most of those show who have them
		Name: "preview", Role: "cover", Size: [2]int{1200, 630}, Formats: []string{"jpeg"}, Opaque: true, Limit: 300 << 10,
	}}
	return r
}
