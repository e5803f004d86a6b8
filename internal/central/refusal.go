package central

import (
	"errors"

	"nexocumula/internal/wire"
)

// RefusalOf returns the refusal behind an error of Receive.
func RefusalOf(err error) wire.Refusal {
	if r, ok := errors.AsType[*refuse](err); ok {
		return r.Refusal
	}
	return wire.Refusal{Code: wire.CodeBusy, Message: err.Error(), Retry: true}
}
