package webserver

// complaint is what a web server said of a configuration that it refuses. File is ""
// where it named none.
type complaint struct {
	What string
	File string
	Line int
}
