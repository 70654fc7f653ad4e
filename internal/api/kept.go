package api

import (
	"net/url"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/vault"
)

// getKept lists the secrets and files that settings may name. What a secret is
// is never told.
func (s *Server) getKept(c fiber.Ctx) error {
	list, err := s.Vault.List()
	if err != nil {
		return err
	}
	return c.JSON(list)
}

// keptName is what a request is about.
func keptName(c fiber.Ctx) (protocol.Kind, string, error) {
	name, err := url.PathUnescape(c.Params("name"))
	if err != nil {
		return "", "", problem.New("bad-name", "The name cannot be read.", "").At(c.Params("name"))
	}
	return protocol.Kind(c.Params("kind")), name, vault.CheckName(name)
}

// postKept keeps the body of a request as a secret or a file.
func (s *Server) postKept(c fiber.Ctx) error {
	kind, name, err := keptName(c)
	if err != nil {
		return err
	}
	if err := s.Vault.Put(kind, name, c.Body()); err != nil {
		return err
	}
	return s.getKept(c)
}

// postForget forgets a secret or a file.
func (s *Server) postForget(c fiber.Ctx) error {
	kind, name, err := keptName(c)
	if err != nil {
		return err
	}
	if err := s.Vault.Remove(kind, name); err != nil {
		return err
	}
	return s.getKept(c)
}
