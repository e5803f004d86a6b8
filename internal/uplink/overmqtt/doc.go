// Package overmqtt is the kind of uplink that publishes summaries and latest values to an MQTT broker, as SenML (RFC 8428)
// or as an edge node of Sparkplug B 3.0. What a broker has acknowledged has arrived.
package overmqtt
