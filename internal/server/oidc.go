package server

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/labstack/echo/v4"
	"golang.org/x/oauth2"
)

// Provider is who vouches for people by OpenID Connect.
type Provider struct {
	Called         string // on the sign-in page
	Issuer, Client string
	Secret         string
	Address        string // of this server, as browsers know it: https://bivium.example
}

// provider asks a Provider. What it is like is found out when it is first needed, so that a
// provider that is down does not keep the server from starting.
type provider struct {
	Provider
	mu       sync.Mutex
	verifier *oidc.IDTokenVerifier
	config   *oauth2.Config
}

// oidcBack is where the provider sends people back to.
const oidcBack = "/api/sign-in/oidc/back"

func (p *provider) ready(ctx context.Context) (*oauth2.Config, *oidc.IDTokenVerifier, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.config != nil {
		return p.config, p.verifier, nil
	}
	found, err := oidc.NewProvider(context.WithoutCancel(ctx), p.Issuer) // it fetches keys with this context later on
	if err != nil {
		return nil, nil, echo.NewHTTPError(http.StatusBadGateway, fmt.Sprintf("%s cannot be reached", p.Called)).SetInternal(err)
	}
	p.verifier = found.Verifier(&oidc.Config{ClientID: p.Client})
	p.config = &oauth2.Config{
		ClientID: p.Client, ClientSecret: p.Secret, Endpoint: found.Endpoint(), RedirectURL: p.Address + oidcBack,
		Scopes: []string{oidc.ScopeOpenID, "profile"},
	}
	return p.config, p.verifier, nil
}

// What a session keeps between going to the provider and coming back.
const (
	oidcState    = "state"
	oidcNonce    = "nonce"
	oidcVerifier = "verifier"
)

// onPage sends a person whose sign-in with the provider failed back to the sign-in page, which
// says why; a script gets the error itself. The address has a status and no words: a link that
// somebody else made can put none on the page.
func onPage(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		err := next(c)
		var refused *echo.HTTPError
		if errors.As(err, &refused) && refused.Code != http.StatusNotFound && strings.Contains(c.Request().Header.Get(echo.HeaderAccept), echo.MIMETextHTML) {
			return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sign-in?refused=%d", refused.Code))
		}
		return err
	}
}

// toProvider sends a browser to the provider: code flow with PKCE (RFC 7636), a state and a
// nonce, which are good once.
func (s *signIn) toProvider(c echo.Context) error {
	if s.provider == nil {
		return echo.ErrNotFound
	}
	config, _, err := s.provider.ready(c.Request().Context())
	if err != nil {
		return err
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	ctx, err := s.sessions.manager.Load(c.Request().Context(), "")
	if err != nil {
		return err
	}
	for key, value := range map[string]string{oidcState: state, oidcNonce: nonce, oidcVerifier: verifier} {
		s.sessions.manager.Put(ctx, key, value)
	}
	token, _, err := s.sessions.manager.Commit(ctx)
	if err != nil {
		return err
	}
	c.SetCookie(s.sessions.cookie(c, token))
	return c.Redirect(http.StatusSeeOther, config.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)))
}

// fromProvider signs somebody in who comes back from the provider.
func (s *signIn) fromProvider(c echo.Context) error {
	if s.provider == nil {
		return echo.ErrNotFound
	}
	config, verifier, err := s.provider.ready(c.Request().Context())
	if err != nil {
		return err
	}
	cookie, err := c.Cookie(s.sessions.manager.Cookie.Name)
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "sign in again: this browser did not begin it, or it took too long")
	}
	ctx, err := s.sessions.manager.Load(c.Request().Context(), cookie.Value)
	if err != nil {
		return err
	}
	state, nonce, proof := s.sessions.manager.GetString(ctx, oidcState), s.sessions.manager.GetString(ctx, oidcNonce), s.sessions.manager.GetString(ctx, oidcVerifier)
	if err := s.sessions.end(c); err != nil { // state and nonce are good once
		return err
	}
	if state == "" || c.QueryParam("state") != state {
		return echo.NewHTTPError(http.StatusBadRequest, "sign in again: this answer was not asked for, or was used already")
	}
	if c.QueryParam("error") != "" {
		return echo.NewHTTPError(http.StatusUnauthorized, s.provider.Called+" refused the sign-in")
	}
	issuer, subject, name, err := vouched(c.Request().Context(), config, verifier, c.QueryParam("code"), proof, nonce)
	if err != nil {
		failed := s.people.Audit().Add(c.Request().Context(), nil, "sign-in failed", s.provider.Called, err.Error())
		if failed != nil {
			return failed
		}
		return echo.NewHTTPError(http.StatusUnauthorized, "the answer of "+s.provider.Called+" is not valid").SetInternal(err)
	}
	who, err := s.people.Vouched(c.Request().Context(), issuer, subject, name, c.RealIP())
	if err != nil {
		return echo.NewHTTPError(http.StatusForbidden, "no person here is known by that sign-in; an administrator can add you").SetInternal(err)
	}
	if err := s.sessions.begin(c, who.Name); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/")
}

// vouched exchanges a code, and returns for whom the provider vouches. Signature, issuer,
// audience, times and nonce are checked (OpenID Connect Core 1.0, 3.1.3.7).
func vouched(ctx context.Context, config *oauth2.Config, verifier *oidc.IDTokenVerifier, code, proof, nonce string) (issuer, subject, name string, err error) {
	tokens, err := config.Exchange(ctx, code, oauth2.VerifierOption(proof))
	if err != nil {
		return "", "", "", err
	}
	raw, _ := tokens.Extra("id_token").(string)
	token, err := verifier.Verify(ctx, raw)
	if err != nil {
		return "", "", "", err
	}
	if token.Nonce != nonce {
		return "", "", "", fmt.Errorf("the nonce is another")
	}
	var claims struct {
		Name string `json:"preferred_username"`
	}
	if err := token.Claims(&claims); err != nil {
		return "", "", "", err
	}
	return token.Issuer, token.Subject, claims.Name, nil
}
