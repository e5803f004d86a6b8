// Package tablestest compares tables with the models that are read from them.
package tablestest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
)

// Same checks that the tables of a database are those that models describe: a property that was added to a
// model without a step is in no table.
func Same(t *testing.T, db *gorm.DB, models ...any) {
	for _, model := range models {
		statement := &gorm.Statement{DB: db}
		require.NoError(t, statement.Parse(model))
		var wanted, made []string
		for _, f := range statement.Schema.Fields {
			wanted = append(wanted, f.DBName)
		}
		columns, err := db.Migrator().ColumnTypes(model)
		require.NoError(t, err)
		for _, c := range columns {
			made = append(made, c.Name())
		}
		assert.ElementsMatch(t, wanted, made, statement.Schema.Table)
		for _, index := range statement.Schema.ParseIndexes() {
			assert.True(t, db.Migrator().HasIndex(model, index.Name), "%s has no index %s", statement.Schema.Table,
				index.Name)
		}
	}
}
