package client

import (
	"context"
	"net/http"
	"net/url"

	"dovrak/api/wire"
)

// Registries lists the connected registries.
func (c *Client) Registries(ctx context.Context) (wire.Registries, error) {
	return get[wire.Registries](ctx, c, "/api/v1/registries", nil)
}

// AddRegistry connects a registry.
func (c *Client) AddRegistry(ctx context.Context, n wire.NewRegistry) (wire.Registry, error) {
	return post[wire.Registry](ctx, c, "/api/v1/registries", n)
}

// EditRegistry changes a connection.
func (c *Client) EditRegistry(ctx context.Context, name string, s wire.RegistrySettings) (wire.Registry, error) {
	return call[wire.Registry](ctx, c, http.MethodPatch, "/api/v1/registries/"+name, nil, s)
}

// DropRegistry ends a connection.
func (c *Client) DropRegistry(ctx context.Context, name string) error {
	_, err := call[wire.Health](ctx, c, http.MethodDelete, "/api/v1/registries/"+name, nil, nil)
	return err
}

// CheckRegistry finds out what a registry permits.
func (c *Client) CheckRegistry(ctx context.Context, name string, n wire.NewCheck) (wire.RegistryCheck, error) {
	return post[wire.RegistryCheck](ctx, c, "/api/v1/registries/"+name+"/checks", n)
}

// Destinations lists the repositories that may be written to.
func (c *Client) Destinations(ctx context.Context) (wire.Destinations, error) {
	return get[wire.Destinations](ctx, c, "/api/v1/destinations", nil)
}

// Declare declares a repository that may be written to.
func (c *Client) Declare(ctx context.Context, n wire.NewDestination) error {
	_, err := post[wire.Health](ctx, c, "/api/v1/destinations", n)
	return err
}

// Undeclare ends what was declared by hand.
func (c *Client) Undeclare(ctx context.Context, repository string) error {
	_, err := call[wire.Health](ctx, c, http.MethodDelete, "/api/v1/destinations", url.Values{"repository": {repository}}, nil)
	return err
}

// TakeIn asks for what a registry holds to be read, and gives the work's number.
func (c *Client) TakeIn(ctx context.Context, name string, n wire.NewTakeIn) (int64, error) {
	return start(ctx, c, "/api/v1/registries/"+name+"/take-ins", n)
}

// TakeIns lists what was taken in.
func (c *Client) TakeIns(ctx context.Context, p Page) (wire.TakeIns, error) {
	return get[wire.TakeIns](ctx, c, "/api/v1/take-ins", p.query())
}

// TakeInNumbered gives one of them.
func (c *Client) TakeInNumbered(ctx context.Context, n int64) (wire.TakeIn, error) {
	return get[wire.TakeIn](ctx, c, "/api/v1/take-ins/"+itoa(n), nil)
}
