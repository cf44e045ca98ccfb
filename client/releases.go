package client

import (
	"context"
	"net/url"

	"dovrak/api/wire"
)

// Plan says what a promotion would do.
func (c *Client) Plan(ctx context.Context, n wire.NewPlan) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/api/v1/promotion-plans", n)
}

// Promote asks for a promotion and gives its number.
func (c *Client) Promote(ctx context.Context, n wire.NewPromotion) (int64, error) {
	return start(ctx, c, "/api/v1/promotions", n)
}

// PromotionFilter selects promotions; what is empty selects nothing away. Mine are those alone that wait for the one
// who asks to agree, ToReview those that nobody has reviewed yet.
type PromotionFilter struct {
	Component, Environment string
	Mine, ToReview         bool
}

// Promotions lists promotions, newest first.
func (c *Client) Promotions(ctx context.Context, p Page, f PromotionFilter) (wire.Promotions, error) {
	q := p.query()
	set(q, "component", f.Component)
	set(q, "environment", f.Environment)
	if f.Mine {
		q.Set("waits-for", "me")
	}
	if f.ToReview {
		q.Set("waits-for", "review")
	}
	return get[wire.Promotions](ctx, c, "/api/v1/promotions", q)
}

// PromotionNumbered gives one promotion.
func (c *Client) PromotionNumbered(ctx context.Context, n int64) (wire.Promotion, error) {
	return get[wire.Promotion](ctx, c, "/api/v1/promotions/"+itoa(n), nil)
}

// StopPromotion ends a promotion of which no tag is pointed yet, or has one that is split taken back.
func (c *Client) StopPromotion(ctx context.Context, n int64) (wire.Promotion, error) {
	return post[wire.Promotion](ctx, c, "/api/v1/promotions/"+itoa(n)+"/stop", nil)
}

// ResumePromotion goes on with a promotion that is split, or begins one again that was taken back, stopped or has failed.
func (c *Client) ResumePromotion(ctx context.Context, n int64) (wire.Promotion, error) {
	return post[wire.Promotion](ctx, c, "/api/v1/promotions/"+itoa(n)+"/resume", nil)
}

// ReviewPromotion keeps that someone has looked at a promotion that went another way than usual.
func (c *Client) ReviewPromotion(ctx context.Context, n int64, remark string) (wire.Promotion, error) {
	return post[wire.Promotion](ctx, c, "/api/v1/promotions/"+itoa(n)+"/review", wire.Remark{Remark: remark})
}

// Component tells how a component's images get along its route.
func (c *Client) Component(ctx context.Context, name string) (wire.ComponentLife, error) {
	return get[wire.ComponentLife](ctx, c, "/api/v1/components/"+url.PathEscape(name), nil)
}

// PlanRollBack tells what a roll back would do.
func (c *Client) PlanRollBack(ctx context.Context, n wire.NewRollBackPlan) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/api/v1/roll-back-plans", n)
}

// RollBack asks for a roll back and gives its number, among those of promotions.
func (c *Client) RollBack(ctx context.Context, n wire.NewRollBack) (int64, error) {
	return start(ctx, c, "/api/v1/roll-backs", n)
}
