package mqtt

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSubscriptionsCoverEachTopicOnce(t *testing.T) {
	for _, c := range []struct{ given, asked []string }{
		{[]string{"buoy/+/state", "buoy/7/state", "buoy/+/state"}, []string{"buoy/+/state"}},
		{[]string{"buoy/7/state", "buoy/#", "mast/wind"}, []string{"buoy/#", "mast/wind"}},
		{[]string{"buoy", "buoy/#"}, []string{"buoy/#"}}, // # matches its parent level as well
		{[]string{"#", "a/+/b", "+"}, []string{"#"}},
		{[]string{"#", "$SYS/broker/load"}, []string{"#", "$SYS/broker/load"}},
		{[]string{"+/temp", "plant/+"}, []string{"+/temp", "plant/+"}},
		{[]string{"a/+", "a/b/c"}, []string{"a/+", "a/b/c"}},
		{[]string{"a/+/#", "a/+"}, []string{"a/+/#"}},
		{[]string{"a/+", "a/#"}, []string{"a/#"}},
	} {
		assert.Equal(t, c.asked, uncovered(c.given), "%v", c.given)
	}
}

func TestFiltersThatShareTopicsAreFound(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		share bool
	}{
		{"+/temp", "plant/+", true}, {"a/b", "a/c", false}, {"a/#", "a", true}, {"a/#", "+/b/c", true}, {"a/+", "a/b/c", false},
		{"#", "$SYS/x", false}, {"+/x", "$SYS/x", false}, {"a/+/c", "a/b/+", true}, {"a/+/c", "+/b/d", false}, {"a/b/#", "a", false},
	} {
		assert.Equal(t, c.share, meet(c.a, c.b), "%s %s", c.a, c.b)
		assert.Equal(t, c.share, meet(c.b, c.a), "%s %s", c.b, c.a)
	}
}
