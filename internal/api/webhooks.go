package api

import (
	"context"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func webhookRoutes(a *API) {
	s := a.svc
	list(a, op("GET", "/webhooks", "list-webhooks", "List the webhooks", policy.SeeWebhooks), webhookKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Webhook, error) {
			return s.Webhooks.Webhooks(ctx, who)
		})
	made(a, op("POST", "/webhooks", "add-webhook", "Have an address told of journal entries", policy.ChangeWebhooks),
		func(v wire.MadeWebhook) string { return "/webhooks/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewWebhook }) (wire.MadeWebhook, error) {
			return s.Webhooks.AddWebhook(ctx, who, in.Body)
		})
	type HookPath struct {
		ID string `path:"webhook" maxLength:"40"`
	}
	answer(a, op("GET", "/webhooks/{webhook}", "show-webhook", "Show a webhook", policy.SeeWebhooks),
		func(ctx context.Context, who service.Actor, in *HookPath) (wire.Webhook, error) {
			all, err := s.Webhooks.Webhooks(ctx, who)
			return service.One(all, err, func(v wire.Webhook) bool { return v.ID == in.ID }, "webhook", in.ID)
		})
	answer(a, matching(op("PATCH", "/webhooks/{webhook}", "change-webhook", "Change where a webhook is told, of what, and whether at all", policy.ChangeWebhooks)),
		func(ctx context.Context, who service.Actor, in *struct {
			HookPath
			Body wire.WebhookChange
		}) (wire.Webhook, error) {
			return s.Webhooks.ChangeWebhook(ctx, who, in.ID, in.Body)
		})
	made(a, op("POST", "/webhooks/{webhook}/keys", "make-webhook-key", "Give a webhook another key, which is shown this once", policy.ChangeWebhooks),
		func(v wire.WebhookKey) string { return "/webhooks/" + v.Webhook }, nil,
		func(ctx context.Context, who service.Actor, in *HookPath) (wire.WebhookKey, error) {
			return s.Webhooks.NewWebhookKey(ctx, who, in.ID)
		})
	answer(a, op("POST", "/webhooks/{webhook}/replay", "replay-webhook", "Tell a webhook again, from an entry on", policy.ChangeWebhooks),
		func(ctx context.Context, who service.Actor, in *struct {
			HookPath
			Body wire.Replay
		}) (wire.Webhook, error) {
			return s.Webhooks.Replay(ctx, who, in.ID, in.Body)
		})
	done(a, op("DELETE", "/webhooks/{webhook}", "drop-webhook", "End the telling of a webhook", policy.ChangeWebhooks),
		func(ctx context.Context, who service.Actor, in *HookPath) error {
			return s.Webhooks.DropWebhook(ctx, who, in.ID)
		})
	answer(a, op("POST", "/webhooks/{webhook}/test", "test-webhook", "Post a test to a webhook, and tell how it went", policy.ChangeWebhooks),
		func(ctx context.Context, who service.Actor, in *HookPath) (wire.Delivery, error) {
			return s.Webhooks.TestWebhook(ctx, who, in.ID)
		})
	list(a, op("GET", "/webhooks/{webhook}/deliveries", "list-deliveries", "List the newest attempts to tell a webhook, the newest first", policy.SeeWebhooks), deliveryKind,
		func(ctx context.Context, who service.Actor, in *struct {
			HookPath
			Page
		}) ([]wire.Delivery, error) {
			return s.Webhooks.Deliveries(ctx, who, in.ID)
		})
}
