// Package request says what a central may ask of a gateway, and through which states a request goes. It knows neither
// stores nor clocks.
package request
