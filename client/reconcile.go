package client

import (
	"context"
	"net/url"
	"time"

	"nexocumula/internal/core/request"
)

// NewReconcile says what is to be compared.
type NewReconcile struct {
	From *time.Time `json:"from,omitempty"` // 30 days ago, when missing
	To   *time.Time `json:"to,omitempty"`   // now, when missing
	Mend bool       `json:"mend,omitempty"` // send again what differs, and compare once more
}

// Reconciled says what was found, and Difference what differs.
type (
	Reconciled = request.ReconcileAnswer
	Difference = request.Difference
)

// Reconcile calls /uplinks/{uplink}/reconcile.
func (c *Client) Reconcile(ctx context.Context, uplink string, what NewReconcile) (Reconciled, error) {
	return post[Reconciled](ctx, c, "uplinks/"+url.PathEscape(uplink)+"/reconcile", what)
}
