package page_test

import (
	"fmt"
	"os"
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"evensprout/internal/page/pagetest"
)

// TestPicture draws a part of a page as PNG:
// PAGE=file.html PICTURE=file.png [PART=id] [DARK=1] [SIZE=1280x800] go test -run TestPicture.
func TestPicture(t *testing.T) {
	file := os.Getenv("PAGE")
	if file == "" {
		t.Skip("it draws the page that PAGE names")
	}
	tab := pagetest.Open(t, file, "")
	if os.Getenv("DARK") != "" {
		tab.Dark()
	}
	width, height := 1280, 800
	fmt.Sscanf(os.Getenv("SIZE"), "%dx%d", &width, &height)
	tab.Do(chromedp.EmulateViewport(int64(width), int64(height)))
	if part := os.Getenv("PART"); part != "" {
		pagetest.Is[any](tab, "document.getElementById("+strconv.Quote(part)+").scrollIntoView()")
	}
	require.NoError(t, os.WriteFile(os.Getenv("PICTURE"), tab.Picture(), 0o644))
}
