package main

import (
	"os"
	"sync"
)

// leaving is what is still to be done when the program is told to stop and a command does not end by
// itself: what was put somewhere for a moment is taken away again.
var leaving struct {
	sync.Mutex
	next  int
	undos map[int]func()
}

// untilLeft has undo done when the program has to stop before done was called. What done returns is
// whether that is still to be done.
func untilLeft(undo func()) (done func() bool) {
	leaving.Lock()
	defer leaving.Unlock()
	if leaving.undos == nil {
		leaving.undos = map[int]func(){}
	}
	n := leaving.next
	leaving.next++
	leaving.undos[n] = undo
	return func() bool {
		leaving.Lock()
		defer leaving.Unlock()
		_, still := leaving.undos[n]
		delete(leaving.undos, n)
		return still
	}
}

// leave does what is still to be done, and holds up whoever would begin something anew.
func leave() {
	leaving.Lock()
	for _, undo := range leaving.undos {
		undo()
	}
	leaving.undos = nil
}

// unpackedDir makes a directory for what archives hold; remove takes it away.
func unpackedDir() (dir string, remove func(), err error) {
	if dir, err = os.MkdirTemp("", "northstake-"); err != nil {
		return "", nil, err
	}
	away := func() { os.RemoveAll(dir) }
	done := untilLeft(away)
	return dir, func() {
		if done() {
			away()
		}
	}, nil
}
