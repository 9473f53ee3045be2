// Package core holds the computation of North Stake: what a declaration means,
// how stakes stand, and which steps would set them. It does no input or output.
package core
