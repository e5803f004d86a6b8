package plain

import (
	"fmt"
	"strings"
	"time"
)

// areas are the first parts of names of zones (IANA time zone database).
var areas = []string{
	"Europe", "America", "Asia", "Africa", "Australia", "Pacific", "Atlantic", "Indian", "Antarctica", "Arctic",
}

// Zone returns the zone with an IANA name, or UTC for "". The error of another name says which may be meant.
func Zone(name string) (*time.Location, error) {
	if zone, err := time.LoadLocation(name); err == nil && name != "Local" {
		return zone, nil
	}
	city := strings.ReplaceAll(strings.TrimSpace(name), " ", "_")
	for _, area := range areas {
		for _, known := range []string{area + "/" + city, area + "/" + capitalised(city)} {
			if _, err := time.LoadLocation(known); err == nil && city != "" {
				return nil, fmt.Errorf("%q is not known; did you mean %s?", name, known)
			}
		}
	}
	return nil, fmt.Errorf("%q is not known; write an IANA name such as Europe/Lisbon, or UTC", name)
}

func capitalised(city string) string {
	parts := strings.Split(strings.ToLower(city), "_")
	for i, p := range parts {
		if p != "" {
			parts[i] = strings.ToUpper(p[:1]) + p[1:]
		}
	}
	return strings.Join(parts, "_")
}
