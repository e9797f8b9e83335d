package page

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"html/template"
	"io"

	"evensprout/internal/safe"
)

//go:embed page.html
var pageText string

//go:embed page.css
var styleText string

//go:embed page.js
var scriptText string

// Write writes the page as HTML. A policy in it lets a browser run its own script alone, and load nothing.
func (p *Page) Write(w io.Writer) error {
	t, err := template.New("page").Funcs(template.FuncMap{
		"css": func(width string) template.CSS { return template.CSS("width:" + width) }, // made of digits by barsOf
	}).Parse(pageText)
	if err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(scriptText))
	var b bytes.Buffer // nothing of a page that cannot be made is written
	err = t.Execute(&b, struct {
		*Page
		Style  template.CSS
		Script template.JS
		Hash   string
	}{p, template.CSS(styleText), template.JS(scriptText), base64.StdEncoding.EncodeToString(sum[:])})
	if err != nil {
		return err
	}
	// What changes the direction of text, or is no UTF-8, comes from data alone.
	_, err = io.WriteString(w, safe.Visible(b.String()))
	return err
}
