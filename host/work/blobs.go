package work

import (
	"encoding/json"
	"net/http"

	"northstake/core/wire"
	"northstake/host/publish"
)

func (s *Server) missing(w http.ResponseWriter, r *http.Request) {
	var want wire.Want
	if !read(w, r, &want) {
		return
	}
	var work wire.ContentWork
	if err := json.Unmarshal(want.Want, &work); err != nil {
		refuse(w, err)
		return
	}
	out, err := publish.Missing(s.host.Machine, work)
	if err != nil {
		refuse(w, err)
		return
	}
	if out == nil {
		out = []string{}
	}
	answer(w, out)
}

// blobs takes a tar stream of files that are named by their SHA-256.
func (s *Server) blobs(w http.ResponseWriter, r *http.Request) {
	if err := publish.Receive(s.host.Machine, r.Body); err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}
