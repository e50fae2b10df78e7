package rulebook_test

import (
	"fmt"

	"havvel/internal/rulebook/expression"
)

// A step's address holds expressions in braces. What stands before one decides how its value is escaped.
func Example() {
	address := expression.NewText("{address}/games/{game.short}?v={version}")
	values := expression.Values{"address": "https://brackwater.example", "game": map[string]any{"short": "lane"}, "version": "0.4.0"}
	fmt.Println(address.Names())
	fmt.Println(address.Fill(values, nil))
	// Output:
	// [address game version]
	// https://brackwater.example/games/lane?v=0.4.0 <nil>
}
