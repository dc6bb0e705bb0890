package store_test

import (
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
)

func init() { store.Blank(blank.Put) }
