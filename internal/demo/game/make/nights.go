package main

// A night is a lane with lanterns where its rows have an o, made from a seed so that it needs that many turns.
type night struct {
	Name  string   `json:"name"`
	Rows  []string `json:"rows"`
	Seed  int      `json:"seed"`
	Turns int      `json:"turns"`
}

var nights = []night{
	{"Two by the door", []string{"oo"}, 1, 1},
	{"Three steps", []string{"ooo"}, 2, 2},
	{"The well", []string{"oo", "oo"}, 3, 2},
	{"Tallow corner", []string{"oo.", "ooo"}, 4, 2},
	{"The little bridge", []string{"ooooo"}, 5, 3},
	{"Crossing", []string{".o.", "ooo", ".o."}, 6, 3},
	{"Weaver's yard", []string{"ooo", "ooo"}, 7, 3},
	{"The gap in the wall", []string{"oo.oo", "ooooo"}, 8, 3},
	{"Nine for the baker", []string{"ooo", "ooo", "ooo"}, 9, 3},
	{"Around the pump", []string{"ooo", "o.o", "ooo"}, 10, 4},
	{"Cooper's stairs", []string{"o...", "oo..", "ooo.", "oooo"}, 11, 4},
	{"The long wall", []string{"oooooo", "oooooo"}, 12, 4},
	{"Heron gate", []string{"o.o.o", "ooooo", "o.o.o"}, 13, 5},
	{"Candle court", []string{"oooo", "oooo", "oooo"}, 14, 5},
	{"Two houses", []string{"oo.oo", "oo.oo", "ooooo"}, 15, 5},
	{"The kiln", []string{".oo.", "oooo", "oooo", ".oo."}, 16, 5},
	{"Moth's parlour", []string{"o...o", "oo.oo", "ooooo", "..o.."}, 17, 6},
	{"Sixteen windows", []string{"oooo", "oooo", "oooo", "oooo"}, 18, 4},
	{"The ring", []string{".ooo.", "o...o", "o...o", ".ooo."}, 19, 6},
	{"Fog on the green", []string{"oo.oo", "ooooo", ".ooo.", "..o.."}, 20, 6},
	{"The tower", []string{"..o..", ".ooo.", ".ooo.", "ooooo", "ooooo"}, 21, 7},
	{"Fair day", []string{"ooooo", "o.o.o", "ooooo", "o.o.o", "ooooo"}, 22, 8},
	{"The whole lane", []string{"ooooo", "ooooo", "ooooo", "ooooo", "ooooo"}, 23, 9},
	{"Midwinter", []string{"oooooo", "oooooo", "oooooo", "oooooo", "oooooo"}, 24, 11},
}
