package family

import (
	_ "embed"

	"github.com/pelletier/go-toml/v2"

	"northstake/core/wire"
)

//go:embed wayin.toml
var wayInFile []byte

// wayIn is what the way in to every host rests on.
type wayIn struct {
	Paths    []wire.Path `toml:"paths"`
	UnitDirs []wire.Path `toml:"unit_dirs"`
	Units    []string    `toml:"units"`
	Services []string    `toml:"services"`
	Packages []string    `toml:"packages"`
	Entrance []string    `toml:"entrance"`
}

var everyWayIn = func() (w wayIn) {
	if err := toml.Unmarshal(wayInFile, &w); err != nil {
		panic(err) // it is embedded, and a test reads it
	}
	return w
}()

// WayIn is what the way in of a login user rests on, on a host of any family, with the user's usual home.
func WayIn(user string) wire.Access {
	home := wire.Path("/home/" + user)
	if user == "root" {
		home = "/root"
	}
	w := everyWayIn
	return wire.Access{User: user, Paths: append([]wire.Path{home}, w.Paths...), UnitDirs: w.UnitDirs, Units: w.Units, Services: w.Services, Packages: w.Packages, Entrance: w.Entrance}
}
