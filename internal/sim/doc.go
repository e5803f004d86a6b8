// Package sim is a small made-up world to try the product on: the stations of a
// fish-farming company, Fellwater Trout, that speak Modbus TCP and MQTT, and a link
// that can be cut. Values follow the day, the weather and each other; faults are
// part of it. Everything follows from a seed and the time, so every run is the same.
package sim
