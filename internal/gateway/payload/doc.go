// Package payload turns the bytes that devices send into readings: a form for each way
// payloads are written, and the names that topics and payloads bind. It knows nothing of
// connections.
//
// A new form is a file of its own, a line in the table of forms, and a file of examples in
// testdata, which the tests, the fuzzing and the list of keys follow from.
package payload
