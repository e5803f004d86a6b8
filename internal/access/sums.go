package access

import (
	"fmt"
	"hash/crc32"
	"reflect"

	"gorm.io/gorm"
)

// A flipped bit in a row would give an account another role, or a token more to see. So each row has a
// checksum, which GORM writes with it: CRC-32C of the text of its fields, but of those that are
// written apart from the rest, now and then: when and from where something was used last.

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func sumOfRow(row any) uint32 {
	v := reflect.Indirect(reflect.ValueOf(row))
	var text []byte
	for i := range v.NumField() {
		switch name := v.Type().Field(i).Name; name {
		case "Checksum", "Used", "From":
		default:
			text = fmt.Appendf(text, "%s=%q ", name, fmt.Sprint(v.Field(i).Interface()))
		}
	}
	return crc32.Checksum(text, castagnoli)
}

// checkSum says that a row is not as it was written.
func checkSum(what string, had uint32, row any) error {
	if had == sumOfRow(row) {
		return nil
	}
	return fmt.Errorf("%s does not match its checksum and is not used: make it anew, or restore %s from a copy", what,
		File)
}

// BeforeSave is called by GORM.
func (r *accountRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// BeforeSave is called by GORM.
func (r *passkeyRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// BeforeSave is called by GORM.
func (r *sessionRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// BeforeSave is called by GORM.
func (r *tokenRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// BeforeSave is called by GORM.
func (r *codeRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// BeforeSave is called by GORM.
func (r *gatewayRow) BeforeSave(*gorm.DB) error { r.Checksum = sumOfRow(r); return nil }

// addSums gives rows that were written before there were checksums theirs. It works on the models: a step
// behind it that adds a column needs it to work on a copy of theirs.
func addSums(tx *gorm.DB) error {
	for _, add := range []func(*gorm.DB) error{
		addSumsTo[accountRow], addSumsTo[passkeyRow], addSumsTo[sessionRow], addSumsTo[tokenRow], addSumsTo[codeRow], addSumsTo[gatewayRow],
	} {
		if err := add(tx); err != nil {
			return err
		}
	}
	return nil
}

func addSumsTo[R any](tx *gorm.DB) error {
	var rows []R
	if err := tx.Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		if err := tx.Save(&rows[i]).Error; err != nil {
			return err
		}
	}
	return nil
}
