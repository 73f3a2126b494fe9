package tabular_test

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/tabular"
)

func TestNothingIsCalculatedAndNothingIsLost(t *testing.T) {
	texts := []string{"", "a", "=cmd|' /C calc'!A0", "+change", "-1", "@SUM(A1)", "\tx", "'", "'x", "'=1", "''=1", "x=1",
		"a,b\"c\nd"}
	var b strings.Builder
	w := tabular.NewWriter(&b)
	w.Write(texts)
	require.NoError(t, w.Flush())
	row, err := csv.NewReader(strings.NewReader(b.String())).Read()
	require.NoError(t, err)
	for i, cell := range row {
		require.NotContains(t, []string{"=", "+", "-", "@", "\t"}, cell[:min(1, len(cell))], texts[i])
		require.Equal(t, texts[i], tabular.Value(cell))
	}
}
