// Package web_test drives the pages as people and programs do.
package web_test

import (
	"os"
	"testing"

	"duskyharbor/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }
