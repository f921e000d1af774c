package spelling

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	known := []string{"estate.yaml", "tides.pem", "endpoint", "trust"}
	tests := []struct{ name, word, want string }{
		{"the word itself", "trust", "trust"},
		{"a letter is missing", "estat.yaml", "estate.yaml"},
		{"two are swapped", "tides.pme", "tides.pem"},
		{"one too many, one wrong", "endpointss", "endpoint"},
		{"case does not count", "Trust", "trust"},
		{"three slips are another word", "trmbg", ""},
		{"much longer", "tides.tarnholm.example", ""},
		{"nothing", "", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, Nearest(tt.word, known)) })
	}
}
