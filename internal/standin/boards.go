package standin

import (
	"cmp"
	"net/http"
	"slices"
)

// keep brings a player's value to what a leaderboard of its kind keeps.
func (b *leaderboard) keep(player string, value float64) float64 {
	if b.Values == nil {
		b.Values = map[string]float64{}
	}
	before, had := b.Values[player]
	switch {
	case b.Keeps == "total":
		value += before
	case had && b.Keeps == "highest":
		value = max(value, before)
	case had && b.Keeps == "lowest":
		value = min(value, before)
	}
	b.Values[player] = value
	return value
}

// score takes a value that the portal's script sends from the page. Players are told apart by a name that the page makes up.
func (a *Portal) score(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Player string
		Value  float64
	}
	if !readJSON(w, r, &in) {
		return
	}
	var kept float64
	err := a.change(func(s *state) error {
		g := s.Games[r.PathValue("short")]
		if g == nil {
			return &no{http.StatusNotFound, "there is no such game here"}
		}
		i := slices.IndexFunc(g.Leaderboards, func(b *leaderboard) bool { return b.Name == r.PathValue("leaderboard") })
		if i < 0 || in.Player == "" || len(in.Player) > 40 {
			return &no{http.StatusNotFound, "there is no leaderboard " + r.PathValue("leaderboard")}
		}
		kept = g.Leaderboards[i].keep(in.Player, in.Value)
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]float64{"kept": kept})
}

// leaderboards shows what leaderboards keep, the best first.
func (a *Portal) leaderboards(w http.ResponseWriter, r *http.Request) {
	type row struct {
		Player string  `json:"player"`
		Value  float64 `json:"value"`
	}
	out := map[string][]row{}
	a.mu.Lock()
	if g := a.state.Games[r.PathValue("short")]; g != nil {
		for _, b := range g.Leaderboards {
			rows := []row{}
			for player, v := range b.Values {
				rows = append(rows, row{player, v})
			}
			slices.SortFunc(rows, func(x, y row) int {
				if b.Keeps == "lowest" {
					x, y = y, x
				}
				return cmp.Or(cmp.Compare(y.Value, x.Value), cmp.Compare(x.Player, y.Player))
			})
			out[b.Name] = rows
		}
	}
	a.mu.Unlock()
	answer(w, http.StatusOK, out)
}
