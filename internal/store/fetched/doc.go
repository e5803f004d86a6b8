// Package fetched keeps readings that this store asked a gateway for, beside the summaries of their series, until their
// time is over. What they are of is known as spans: a span is complete once the gateway said that all has arrived.
package fetched
