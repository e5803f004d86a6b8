package mqtt

// reasons maps reason codes to their meaning (MQTT 5.0, 2.4).
var reasons = map[byte]string{
	0x80: "unspecified", 0x81: "malformed packet", 0x82: "protocol error", 0x83: "implementation specific",
	0x84: "this version of MQTT is not spoken", 0x85: "the client id is not allowed", 0x86: "wrong name or password",
	0x87: "not authorized", 0x88: "the broker is not available", 0x89: "the broker is busy", 0x8a: "banned",
	0x8b: "the broker shuts down", 0x8c: "bad authentication method", 0x8d: "nothing was heard for too long",
	0x8e: "another client has taken the session over", 0x8f: "the topic filter is not valid", 0x90: "the topic is not valid",
	0x91: "packet identifier in use", 0x92: "packet identifier not found", 0x93: "more messages than can be received",
	0x94: "topic alias not valid", 0x95: "packet too large", 0x96: "message rate too high", 0x97: "quota exceeded",
	0x98: "by its administrator", 0x99: "payload format not valid", 0x9a: "retained messages are not supported",
	0x9b: "this quality of service is not supported", 0x9c: "use another server", 0x9d: "the server has moved",
	0x9e: "shared subscriptions are not supported", 0x9f: "too many connections", 0xa0: "for the longest time allowed",
	0xa1: "subscription identifiers are not supported", 0xa2: "wildcard subscriptions are not supported",
}

// inWords returns the meaning of a reason code, with a comma before it.
func inWords(code byte) string {
	if text, ok := reasons[code]; ok && code != 0x80 { // of 3.1.1, where 0x80 is all there is
		return ", " + text
	}
	return ""
}
