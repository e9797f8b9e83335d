// Command bom writes the software bill of materials of a Go program, as SPDX 2.3 in JSON, from what the
// compiler noted in it.
//
//	go run ./scripts/bom PROGRAM VERSION > program.spdx.json
package main

import (
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
)

// spdx is a document; fields have the names of the specification, https://spdx.github.io/spdx-spec/v2.3/.
type spdx struct {
	SPDXVersion       string         `json:"spdxVersion"`
	DataLicense       string         `json:"dataLicense"`
	SPDXID            string         `json:"SPDXID"`
	Name              string         `json:"name"`
	DocumentNamespace string         `json:"documentNamespace"`
	CreationInfo      creation       `json:"creationInfo"`
	Packages          []item         `json:"packages"`
	Relationships     []relationship `json:"relationships"`
}

type creation struct {
	Created  string   `json:"created"`
	Creators []string `json:"creators"`
}

type item struct {
	SPDXID           string      `json:"SPDXID"`
	Name             string      `json:"name"`
	Version          string      `json:"versionInfo,omitempty"`
	DownloadLocation string      `json:"downloadLocation"`
	FilesAnalyzed    bool        `json:"filesAnalyzed"`
	Checksums        []checksum  `json:"checksums,omitempty"`
	References       []reference `json:"externalRefs,omitempty"`
}

type checksum struct {
	Algorithm string `json:"algorithm"`
	Value     string `json:"checksumValue"`
}

type reference struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"`
}

type relationship struct {
	Element string `json:"spdxElementId"`
	Type    string `json:"relationshipType"`
	Related string `json:"relatedSpdxElement"`
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 3 {
		return fmt.Errorf("usage: bom PROGRAM VERSION TIME")
	}
	info, err := buildinfo.ReadFile(args[0])
	if err != nil {
		return err
	}
	data, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	digest := hex.EncodeToString(sum[:])
	doc := spdx{
		SPDXVersion: "SPDX-2.3", DataLicense: "CC0-1.0", SPDXID: "SPDXRef-DOCUMENT",
		Name:              "evensprout-" + args[1],
		DocumentNamespace: "https://evensprout.example/spdx/" + digest,
		CreationInfo:      creation{Created: args[2], Creators: []string{"Tool: scripts/bom"}},
	}
	const program = "SPDXRef-evensprout"
	doc.Packages = append(doc.Packages, item{SPDXID: program, Name: "evensprout", Version: args[1],
		DownloadLocation: "NOASSERTION", Checksums: []checksum{{"SHA256", digest}}})
	doc.Relationships = append(doc.Relationships, relationship{doc.SPDXID, "DESCRIBES", program})
	unsafe := regexp.MustCompile(`[^A-Za-z0-9.-]+`)
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		id := "SPDXRef-" + unsafe.ReplaceAllString(m.Path, "-")
		doc.Packages = append(doc.Packages, item{SPDXID: id, Name: m.Path, Version: m.Version,
			DownloadLocation: "NOASSERTION",
			References:       []reference{{"PACKAGE-MANAGER", "purl", "pkg:golang/" + m.Path + "@" + m.Version}}})
		doc.Relationships = append(doc.Relationships, relationship{program, "DEPENDS_ON", id})
	}
	out := json.NewEncoder(os.Stdout)
	out.SetIndent("", "  ")
	return out.Encode(doc)
}
