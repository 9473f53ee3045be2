package webserver

import "northstake/core/wire"

// complaint is what a web server said of a configuration that it refuses. File is ""
// where it named none.
type complaint struct {
	What string
	File wire.Path
	Line int
}
