package rulebook_test

import (
	"fmt"

	"havvel/internal/rulebook"
)

// A step's address holds values by name. What stands before a value decides how it is escaped.
func ExampleText() {
	address := rulebook.NewText("{address}/games/{game.short}?v={version}")
	values := map[string]string{"address": "https://brackwater.example", "game.short": "lane", "version": "0.4.0"}
	fmt.Println(address.Values())
	fmt.Println(address.Fill(func(name, before string) string { return values[name] }))
	// Output:
	// [address game.short version]
	// https://brackwater.example/games/lane?v=0.4.0
}

func ExamplePointer() {
	reasons, err := rulebook.NewPointer("/errors/*/text")
	if err != nil {
		fmt.Println(err)
		return
	}
	answer := map[string]any{"errors": []any{map[string]any{"text": "no icon"}, map[string]any{"text": "title too long"}}}
	fmt.Println(reasons.Texts(answer))
	// Output: [no icon title too long]
}
