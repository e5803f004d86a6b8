package series

// Covers reports whether every path or topic that the levels b name is one that the levels a name. A level is
// a name, "+" or, at the end, "#" (MQTT 5.0, 4.7).
func Covers(a, b []string) bool {
	for i, level := range a {
		switch {
		case level == "#":
			return true
		case i >= len(b) || b[i] == "#":
			return false
		case level != "+" && level != b[i]:
			return false
		}
	}
	return len(a) == len(b)
}

// Meet reports whether there is a path or topic that both name.
func Meet(a, b []string) bool {
	for i := 0; ; i++ {
		switch {
		case i < len(a) && a[i] == "#" || i < len(b) && b[i] == "#":
			return true // # also matches the level above it
		case i == len(a) || i == len(b):
			return len(a) == len(b)
		case a[i] != "+" && b[i] != "+" && a[i] != b[i]:
			return false
		}
	}
}
