// Package web_test drives the pages as people and programs do.
package web_test
