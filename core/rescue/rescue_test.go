package rescue_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/rescue"
)

func TestDo(t *testing.T) {
	var told []rescue.Defect
	report := rescue.Report(func(d rescue.Defect) { told = append(told, d) })
	assert.Nil(t, report.Do("tides.tarnholm.example:443", func() {}))
	fail := func() { panic("no such thing") }
	first, again := report.Do("tides.tarnholm.example:443", fail), report.Do("tides.tarnholm.example:443", fail)
	other := report.Do("pilots.tarnholm.example:443", fail)
	require.Len(t, told, 3)
	assert.Equal(t, "no such thing", first.Cause)
	assert.Contains(t, first.Stack, "rescue_test.go")
	assert.Len(t, first.Reference, 8)
	assert.NotEqual(t, first.Reference, other.Reference)
	assert.Equal(t, first.Target, again.Target)
	assert.NotNil(t, rescue.Report(nil).Do("", fail), "what nobody is told of is caught too")
}
