// Package rod is the service's side of the rod, the small program that stands
// on a host while it is surveyed and worked on: the client. The rod serves HTTP/2 on its standard input
// and output.
package rod

// Greeting is the line that a rod writes before it begins to speak HTTP/2, so
// that nothing is taken for it that a login script or sudo has printed.
const Greeting = "northstake-rod 1\n"
