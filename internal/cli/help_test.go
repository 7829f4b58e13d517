package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestParagraphs: lines that were wrapped are one again; short ones end their paragraph, and lists stay lists.
func TestParagraphs(t *testing.T) {
	long := strings.Repeat("word ", 13) + "end"
	require.Equal(t, long+" and more.\nNew.\n\n"+long+"\n  indented\n- item\n"+long+" x",
		paragraphs(long+"\nand more.\nNew.\n\n"+long+"\n  indented\n- item\n"+long+"\nx"))
}
