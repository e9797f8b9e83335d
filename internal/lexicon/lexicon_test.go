package lexicon

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What columns of text are called in several languages, in abbreviations and with prefixes, and the kind that is meant.
const meantKinds = `
customers cust_nm name; people strName name; users name name; orders customer_name name; Autoren name name
livres auteur name; tickets assignee name; x traveller name; accounts holder_name name; x fullName name
kunden Vorname given-name; x fname given-name; x imie given-name; x prenom given-name; x voornaam given-name
kunden nachname family-name; x apellidos family-name; x soyadi family-name; x cognome family-name
x email email; x eposta email; x correo email; x contact_email email; x txtEmail email; x email_address email
x tel tel; x numero_telephone tel; x telefonnummer tel; x phone1 tel; x mobile_no tel; x handy tel; x fax tel
x txtAddr1 street-address; x ulica street-address; x shipping_address_line_1 street-address; x strasse street-address
addresses line1 street-address; x rue street-address; x endereco street-address
cities name locality; x ort locality; x miasto locality; x ville locality; x city_name locality; x cidade locality
x plz postal-code; clientes codigoPostal postal-code; x kod_pocztowy postal-code; x zip_code postal-code
x bundesland region; x state region; x provincia region; x country country-name; x land country-name
companies name org; x company_name org; x nazwa_firmy org; suppliers name org; x employer org; x fournisseur org
products name product-name; order_items product_name product-name; artikel bezeichnung product-name
categories name product-category; departments name department; x abteilung department; x job_title organization-title
x puesto organization-title; x artikelnummer sku; x sku sku; x ean ean; x isbn isbn; x rechnungsnummer invoice-number
orders order_no order-number; x tracking_code tracking-number; x iban iban; x bic bic; x swift_code bic
x vat_no vat-number; x ust_id vat-number; x logo_url image-url; x avatar image-url; x homepage url; x website_url url
x user_agent user-agent; x last_login_ip ipv4; x ip_address ipv4; x mac_address mac; x hostname host; x domain domain
x mime_type media-type; x file_name file-name; x file_path file-path; x session_id session-id; x sha256 digest
x version version; x firmware_version firmware; x serial_no serial-number; x vin vin; x plate_no plate
vehicles make vehicle-make; vehicles model vehicle-model; x hex_color hex-colour; x farbe colour; x couleur colour
x blood_group blood-group; x grupa_krwi blood-group; x geschlecht gender; x sexo gender; x plec gender
orders status order-status; users status user-status; tickets status ticket-status; x payment_method payment-method
payments method payment-method; x language language; x sprache language; x timezone time-zone; x slug slug
reviews body comment; x notes comment; x bemerkung comment; posts content paragraph; x beschreibung paragraph
log_entries message log-line; x error_message error-message; x subject headline; x betreff headline; x tags tag
events title event; courses name course; pets name pet-name; recipes ingredient ingredient; x username username
x benutzername username; x nickname nickname; x api_key api-token; x card_last4 card-last-four; x card_brand card-brand`

func TestNamesMeanKinds(t *testing.T) {
	total, wrong := 0, 0
	for _, line := range strings.FieldsFunc(meantKinds, func(r rune) bool { return r == ';' || r == '\n' }) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		total++
		found := Sources(words[0], words[1])
		if len(found) == 0 || found[0] != "{kind: "+words[2]+"}" {
			wrong++
			t.Errorf("%s: %v", line, found)
		}
	}
	assert.Greater(t, total, 120)
	t.Logf("%d of %d names mean what they should", total-wrong, total)
}

// What no word tells suggests nothing, and a word for something else does not either.
func TestNamesWithoutMeaning(t *testing.T) {
	for _, name := range []string{"xyzzy", "a", "col1", "foo_bar", "__", "", "日本"} {
		assert.Empty(t, Sources("things", name), name)
	}
	assert.NotContains(t, Sources("orders", "email_verified_by_system_flag"), "{kind: email}")
}

// Every notion that the vocabulary uses has words, and every subject is one.
func TestTheVocabularyIsWhole(t *testing.T) {
	l := theLexicon()
	notions := map[string]bool{}
	for _, list := range l.notions {
		for _, n := range list {
			notions[n] = true
		}
	}
	ways := l.ways
	for _, n := range numberWays {
		ways = append(ways, waysOf(n.ways, n.Kind, 0)...)
	}
	for _, w := range ways {
		for _, n := range w.notions {
			assert.True(t, notions[n], "%s of %s has no word", n, w.source)
		}
		if w.subject != "" {
			assert.True(t, notions[w.subject] || subjects[w.subject] != nil, "@%s of %s", w.subject, w.source)
		}
	}
	t.Logf("%d words for %d notions, %d ways to %d sources", len(l.notions), len(notions), len(ways), len(AllSources()))
}

func TestNumbersByName(t *testing.T) {
	for name, kind := range map[string]string{"qty": "quantity", "menge": "quantity", "prix": "price",
		"gehalt": "salary",
		"lat":    "latitude", "http_status": "http-status", "mwst_satz": "tax-rate", "rating": "rating"} {
		require.NotNil(t, NumberOf("things", name), name)
		assert.Equal(t, kind, NumberOf("things", name).Kind, name)
	}
	assert.EqualValues(t, 5000, NumberOf("log", "duration_ms").Hi)
	assert.Nil(t, NumberOf("things", "xyzzy"))
}

func TestWords(t *testing.T) {
	assert.Equal(t, []string{"given", "name"}, Words("given_name"))
	assert.Equal(t, []string{"XML", "Http", "Request2"}, Words("XMLHttpRequest2"))
	assert.True(t, Of("kundennummer").Says("customer") && Of("kundennummer").Says("number"))
	assert.True(t, Of("Straße").Says("street") && Of("Adı").Says("name") && Of("prénom").Says("first"))
	assert.True(t, Of("email").Alone() && !Of("email_xyz").Alone())
	assert.True(t, Of("paid_at").Shares(Of("bezahlt")))
}

// What a name suggests for a truth or a NULL follows its default, and its meaning.
func TestShares(t *testing.T) {
	for _, c := range [][3]string{
		{"newsletter", "true", "90%"}, {"newsletter", "'0'", "10%"}, {"is_deleted", "", "5%"}, {"is_active", "", "85%"},
		{"is_deleted", "false", "5%"}, {"likes_tea", "", "50%"}, {"is_default", "false", "5%"},
	} {
		assert.Equal(t, c[2], TrueShare(c[0], c[1]), c[0])
	}
	for name, want := range map[string]string{"deleted_at": "95%", "address2": "75%", "address_line_2": "75%",
		"middle_name": "70%", "email": "0%", "fax": "70%", "xyz": "", "notes": "40%", "created_at": "0%"} {
		assert.Equal(t, want, NullShare(name), name)
	}
}

func TestNaming(t *testing.T) {
	for naming, want := range map[Naming]string{AsColumns: "givenName_of", Pascal: "GivenNameOf", Camel: "givenNameOf",
		Snake: "given_name_of", Kebab: "given-name-of"} {
		assert.Equal(t, want, naming.Of("givenName_of"))
	}
	assert.Equal(t, "HTTPServer", AsColumns.Of("HTTPServer"))
	assert.Equal(t, "http_server", Snake.Of("HTTPServer"))
}

// The subject of a table says nothing about a column that no word describes.
func TestColumnsOfPersons(t *testing.T) {
	for _, column := range []string{"theme", "refresh", "xyzzy"} {
		assert.Empty(t, Sources("users", column), column)
	}
	assert.Equal(t, "{kind: name}", Sources("posts", "author")[0])
	assert.Equal(t, "{kind: name}", Sources("users", "contact_person")[0])
}

func TestNamesOfMoments(t *testing.T) {
	for _, name := range []string{"created_at", "CreatedAt", "active_since", "valid_until", "lastlogin", "last_login",
		"update_time", "expires", "unix_timestamp", "timestamp"} {
		assert.True(t, IsMoment(name), name)
	}
	for _, name := range []string{"closed", "login", "duration", "seat", "time", "delivery_time", "expected", "at", "",
		"since"} {
		assert.False(t, IsMoment(name), name)
	}
}
