package api

import (
	"net"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/core/problem"
)

// MeView says who is signed in, and how Ferry is reached.
type MeView struct {
	// Guarded is set where people have to sign in; SignedIn where somebody is.
	Guarded  bool          `json:"guarded"`
	SignedIn bool          `json:"signedIn"`
	Name     string        `json:"name"`
	Role     accounts.Role `json:"role"`
	// Certificate is null where Ferry is reached without.
	Certificate *accounts.Certificate `json:"certificate"`
}

func (s *Server) getMe(c fiber.Ctx) error {
	user, ok := s.signedIn(c)
	view := MeView{Guarded: s.Accounts != nil, SignedIn: ok, Name: user.Name, Role: user.Role,
		Certificate: s.Certificate}
	return c.JSON(view)
}

// SignInRequest begins a session.
type SignInRequest struct {
	Name       string `json:"name"`
	Passphrase string `json:"passphrase"`
}

func (s *Server) postSignIn(c fiber.Ctx) error {
	var r SignInRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if s.Accounts == nil {
		return s.getMe(c)
	}
	from, _, err := net.SplitHostPort(c.RequestCtx().RemoteAddr().String())
	if err != nil {
		from = c.RequestCtx().RemoteAddr().String()
	}
	secret, err := s.Accounts.SignIn(r.Name, r.Passphrase, from)
	if err != nil {
		p := problem.From(err, "internal")
		if code := map[string]int{"sign-in": 401, "wait": 429}[p.Code]; code != 0 {
			return &status{code, p}
		}
		return err
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Value: secret, Path: "/", HTTPOnly: true, Secure: true,
		SameSite: "Strict", SessionOnly: true})
	return c.JSON(struct{}{})
}

func (s *Server) postSignOut(c fiber.Ctx) error {
	if s.Accounts != nil {
		s.Accounts.SignOut(c.Cookies(sessionCookie))
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Value: "", Path: "/", HTTPOnly: true, Secure: true, SameSite: "Strict",
		Expires: time.Unix(1, 0)})
	return c.JSON(struct{}{})
}

// UsersView is who may use this Ferry, and who tried to.
type UsersView struct {
	Users    []UserView         `json:"users"`
	Attempts []accounts.Attempt `json:"attempts"`
	Roles    []RoleView         `json:"roles"`
}

// UserView is one user.
type UserView struct {
	Name  string        `json:"name"`
	Role  accounts.Role `json:"role"`
	Since time.Time     `json:"since"`
}

// RoleView is a role in words.
type RoleView struct {
	Role  accounts.Role `json:"role"`
	Title string        `json:"title"`
}

// UserRequest adds a user or changes one; an empty passphrase leaves it as it
// is.
type UserRequest struct {
	Name       string        `json:"name"`
	Role       accounts.Role `json:"role"`
	Passphrase string        `json:"passphrase"`
}

func (s *Server) getUsers(c fiber.Ctx) error {
	view := UsersView{Users: []UserView{}, Attempts: []accounts.Attempt{}, Roles: []RoleView{}}
	for _, role := range accounts.Roles() {
		view.Roles = append(view.Roles, RoleView{role, roleWords[role]})
	}
	if s.Accounts == nil {
		return c.JSON(view)
	}
	for _, u := range s.Accounts.Users() {
		view.Users = append(view.Users, UserView{u.Name, u.Role, u.Since})
	}
	var err error
	if view.Attempts, err = s.Accounts.Attempts(shownAttempts); err != nil {
		return err
	}
	return c.JSON(view)
}

// unguarded says why there are no users.
var unguarded = problem.New("unguarded", "This Ferry is open to whoever sits at this machine: nobody signs in.",
	"Start it with --tls, or with --listen and an address that others can reach.")

func (s *Server) postUser(c fiber.Ctx) error {
	var r UserRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if s.Accounts == nil {
		return unguarded
	}
	if err := s.Accounts.Put(r.Name, r.Role, r.Passphrase); err != nil {
		return err
	}
	return s.getUsers(c)
}

func (s *Server) postRemoveUser(c fiber.Ctx) error {
	var r UserRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if s.Accounts == nil {
		return unguarded
	}
	if err := s.Accounts.Remove(r.Name); err != nil {
		return err
	}
	return s.getUsers(c)
}
