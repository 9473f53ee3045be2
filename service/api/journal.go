package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"northstake/service/contract"
)

// GetJournal lists what a host's own journal has.
func (s *Server) GetJournal(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	s.journalOf(c, ground, host, nil)
}

// AskJournal lists it with a password for sudo.
func (s *Server) AskJournal(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	var in contract.AskJournalJSONBody
	if body(c, &in) {
		s.journalOf(c, ground, host, in.SudoPasswords)
	}
}

func (s *Server) journalOf(c *gin.Context, ground, host string, passwords contract.SudoPasswords) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	steps, err := s.Jobs.Journal(c.Request.Context(), g, host, passwords)
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, steps)
}

// DismissStep has a step of a host's journal hold up nothing any more.
func (s *Server) DismissStep(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	var in contract.Dismissal
	if !body(c, &in) {
		return
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	if err := s.Jobs.Dismiss(c.Request.Context(), g, host, in, who(c)); err != nil {
		s.refuse(c, err)
		return
	}
	s.Log.Info("step dismissed", "ground", ground, "host", host, "run", in.Run, "step", in.Number, "by", who(c))
	c.Status(http.StatusNoContent)
}
