package grow

import "evensprout/internal/value"

// The sections of the catalogue, in the order in which it lists them.
const (
	sectionPeople   = "People"
	sectionPlaces   = "Places"
	sectionFirms    = "Companies and work"
	sectionGoods    = "Products and orders"
	sectionMoney    = "Money and banking"
	sectionInternet = "Internet"
	sectionMachines = "Devices and vehicles"
	sectionHealth   = "Health and food"
	sectionTimes    = "Time"
	sectionTexts    = "Text"
	sectionSigns    = "Words, signs and codes"
)

// Sections are the sections of the catalogue, in order.
var Sections = []string{sectionPeople, sectionPlaces, sectionFirms, sectionGoods, sectionMoney, sectionInternet,
	sectionMachines, sectionHealth, sectionTimes, sectionTexts, sectionSigns}

// formKinds are the kinds whose texts have a form: see newForm. Where a locale has a form of that name,
// that one counts.
func formKinds() []Kind {
	local := func(name, section, about, form string) Kind {
		return Kind{Name: name, Section: section, About: about, text: form, Locales: true}
	}
	text := func(name, section, about, form string) Kind {
		return Kind{Name: name, Section: section, About: about, text: form}
	}
	checked := func(name, section, about, form string, finish func([]byte, int) []byte) Kind {
		return Kind{Name: name, Section: section, About: about, text: form, finish: finish}
	}
	whole := func(name, section, about, form string) Kind {
		return Kind{Name: name, Section: section, About: about, text: form, typ: value.Integer}
	}
	exact := func(name, section, about string, scale uint8, form string) Kind {
		return Kind{Name: name, Section: section, About: about, text: form, typ: value.Decimal, scale: scale}
	}
	return []Kind{
		// People.
		local("given-name", sectionPeople, "given name", "{given}"),
		local("family-name", sectionPeople, "family name", "{family}"),
		local("name", sectionPeople, "given name and family name", "{given} {family}"),
		local("honorific-prefix", sectionPeople, "title before a name", "{honorific}"),
		text("initials", sectionPeople, "initials of a name",
			"{letter}.{letter}."),
		local("username", sectionPeople, "login name from a name", "{given/latin}.{family/latin}{1-999}"),
		text("nickname", sectionPeople, "name that somebody chose", "{adjective}{noun/title}{1-99}"),
		text("gender", sectionPeople, "gender", "{gender}"),
		text("sex", sectionPeople, "sex", "{sex}"),
		text("marital-status", sectionPeople, "marital status", "{marital}"),
		text("relationship", sectionPeople, "relation of one person to another", "{relation}"),
		text("education", sectionPeople, "highest education", "{education}"),
		text("language", sectionPeople, "language, as an ISO 639 code", "{language}"),
		text("language-name", sectionPeople, "language by its name", "{language.name}"),
		text("user-status", sectionPeople, "status of an account", "{status.user}"),
		text("role", sectionPeople, "role of a user", "{role}"),
		whole("age", sectionPeople, "age of a grown-up, in years",
			"{18-29|18-29|18-29|30-44|30-44|30-44|45-59|45-59|60-74|75-89}"),
		whole("height-cm", sectionPeople, "height of a grown-up", "1{55-92}"),

		// Places.
		local("street-address", sectionPlaces, "street and house number; never a complete address of somebody",
			"{street-address}"),
		local("street", sectionPlaces, "name of a street", "{street}"),
		text("house-number", sectionPlaces, "number of a house", "{1-199}{|||||||a|b|c}"),
		local("locality", sectionPlaces, "town or city", "{town}"),
		local("region", sectionPlaces, "state, province or county", "{town.region}"),
		local("postal-code", sectionPlaces, "postal code that is not assigned", "{postal-code}"),
		local("tel", sectionPeople, "telephone number that cannot be assigned", "{tel}"),
		text("country-name", sectionPlaces, "country", "{country}"),
		text("country-code", sectionPlaces, "country, two letters (ISO 3166)", "{country.code}"),
		text("country-code3", sectionPlaces, "country, three letters (ISO 3166)", "{country.code3}"),
		text("dial-code", sectionPlaces, "international dialling code", "{country.dial}"),
		text("time-zone", sectionPlaces, "time zone of the tz database", "{zone}"),
		exact("latitude", sectionPlaces, "latitude in degrees", 5, "{36-58}.{00000-99999}"),
		exact("longitude", sectionPlaces, "longitude in degrees", 5, "{|-}{0-30}.{00000-99999}"),
		text("property-type", sectionPlaces, "kind of building or flat", "{property}"),
		text("amenity", sectionPlaces, "something that a place offers", "{amenity}"),
		text("room", sectionPlaces, "room of a building", "{room}"),

		// Companies and work.
		local("org", sectionFirms, "name of a company", "{org}"),
		local("legal-form", sectionFirms, "legal form of a company", "{legal}"),
		text("industry", sectionFirms, "line of business", "{industry}"),
		text("slogan", sectionFirms, "slogan of a company", "{slogan.a} {slogan.b}"),
		text("organization-title", sectionFirms, "job title", "{|||Senior |Senior |Junior |Lead |Chief }{job.trade}"),
		text("department", sectionFirms, "department of a company", "{department}"),
		text("employment-type", sectionFirms, "how somebody is employed", "{employment}"),
		exact("salary", sectionFirms, "yearly salary, in hundreds", 2,
			"{24-36|30-48|30-48|36-60|36-60|48-78|60-95|80-140}{0-9}00.00"),
		text("event", sectionFirms, "event to invite people to", "{event}"),
		text("school", sectionFirms, "name of a school", "{town} {school}"),
		text("course", sectionFirms, "subject of a course", "{|Introduction to |Advanced |}{course}"),

		// Products and orders.
		text("product-name", sectionGoods, "name of a product", "{product.adjective} {product.thing}"),
		text("product-category", sectionGoods, "category of products", "{product.category}"),
		text("brand", sectionGoods, "brand, invented", "{brand}"),
		text("material", sectionGoods, "material", "{product.material}"),
		text("size", sectionGoods, "size of clothes", "{size}"),
		text("sku", sectionGoods, "stock number",
			"{letter}{letter}{letter}-{00000-99999}"),
		checked("ean", sectionGoods, "EAN-13 with its check digit, for use inside a company",
			"2{000000-999999}{00000-99999}", gtinCheck),
		checked("gtin-14", sectionGoods, "GTIN-14 with its check digit, for use inside a company",
			"12{000000-999999}{00000-99999}", gtinCheck),
		checked("isbn", sectionGoods, "ISBN-13 with its check digit, of a group that is not assigned",
			"9799{0000-9999}{0000-9999}", gtinCheck),
		whole("quantity", sectionGoods, "quantity on an order: mostly few",
			"{1|1|1|1|1|1|2|2|2|3|3|4|5|6|8|10|12|20}"),
		whole("stock", sectionGoods, "quantity in stock: sometimes none", "{0|0|1-9|10-49|10-49|50-99|100-400}"),
		exact("weight-kg", sectionGoods, "weight of a parcel", 2, "{0|0|0|1-4|5-19}.{05-95}"),
		whole("rating", sectionGoods, "stars, one to five: most are good",
			"{5|5|5|5|5|5|5|5|5|4|4|4|4|4|4|3|3|3|2|1|1}"),
		text("order-status", sectionGoods, "status of an order", "{status.order}"),
		text("order-number", sectionGoods, "number of an order", "{A|B|C|D}{0000000-9999999}"),
		text("tracking-number", sectionGoods, "number of a parcel, obviously a test",
			"TEST{00000-99999}{00000-99999}"),
		text("payment-method", sectionGoods, "how something is paid", "{payment}"),
		text("coupon", sectionGoods, "code for a discount",
			"{SAVE|HELLO|SUMMER|WINTER|THANKS|FRIEND}{5|10|15|20|25|30}-{000-999}"),
		text("book-title", sectionGoods, "title of a book, invented", "{book.a} {book.b}"),
		text("subscription", sectionGoods, "tier of a subscription", "{plan.tier}"),

		// Money and banking.
		exact("price", sectionMoney, "price as shops write it", 2,
			"{1-9|1-9|2-19|2-19|10-49|10-49|20-99|50-299}.{99|99|99|95|95|49|00|50}"),
		exact("amount", sectionMoney, "amount of a payment", 2, "{1-9|10-49|10-99|20-199|100-999|1000-4999}.{00-99}"),
		exact("discount-percent", sectionMoney, "discount in percent", 2, "{5|5|10|10|10|15|20|20|25|30|50}.00"),
		exact("tax-rate", sectionMoney, "rate of a sales tax in percent", 2, "{20|20|19|21|7|5|10|0}.00"),
		text("currency", sectionMoney, "currency, three letters (ISO 4217)", "{currency}"),
		text("currency-name", sectionMoney, "currency by its name", "{currency.name}"),
		checked("iban", sectionMoney, "IBAN with its check digits, of banks that do not exist",
			"{DE|GB|FR|ES|NL|PL|AT|CH}{0000000000-9999999999}", ibanCheck),
		text("bic", sectionMoney, "BIC, of the kind for tests (ISO 9362)",
			"{ALDR|BRYN|CORV|DELM|ESTR|FENM|GRAL|HOLM}{DE|GB|FR|ES|IT|NL|PL|AT|BE|PT}{2|3|5|A|K|P}0{XXX|001|002|100|}"),
		checked("vat-number", sectionMoney, "German VAT number with its check digit, from a range that is not assigned",
			"DE0{0000000-9999999}", vatCheck),
		text("card-number", sectionMoney, "card number that is known to be for tests",
			"{card.number}"),
		text("card-brand", sectionMoney, "brand of a payment card",
			"{Visa|Visa|Visa|Mastercard|Mastercard|American Express}"),
		text("card-last-four", sectionMoney, "last digits of a payment card", "{0000-9999}"),
		text("card-expiry", sectionMoney, "month to which a card is valid", "{01-12}/{27-33}"),
		text("invoice-number", sectionMoney, "number of an invoice", "{INV|RE|FA}-20{24-26}-{00000-99999}"),
		text("account-number", sectionMoney, "number of an account, from a range that no bank has",
			"00{0000-9999}{0000-9999}"),

		// Internet.
		local("email", sectionInternet, "address at a domain reserved for examples (RFC 2606)",
			"{given/latin}.{family/latin}{1-99}@example.{com|net|org}"),
		text("url", sectionInternet, "web address at a domain reserved for examples (RFC 2606)",
			"https://www.example.{com|net|org}/{noun}-{noun}"),
		text("url-path", sectionInternet, "path of a web address",
			"/{products|blog|help|users|news|docs}/{noun}-{noun}"),
		text("image-url", sectionInternet, "address of a picture at a domain reserved for examples",
			"https://images.example.{com|net|org}/{noun}-{0000-9999}.{jpg|jpg|png|webp}"),
		text("host", sectionInternet, "host name under a reserved domain (RFC 2606)", "{noun}-{01-99}.example"),
		text("domain", sectionInternet, "domain under a reserved one (RFC 2606)", "{adjective}{noun}.example"),
		text("ipv4", sectionInternet, "IPv4 address reserved for documentation (RFC 5737)",
			"{192.0.2.|198.51.100.|203.0.113.}{1-254}"),
		text("ipv6", sectionInternet, "IPv6 address reserved for documentation (RFC 3849)",
			"2001:db8:{hex:4}:{hex:4}::{hex:4}"),
		text("mac", sectionInternet, "hardware address reserved for documentation (RFC 7042)",
			"00:00:5e:00:53:{hex:2}"),
		text("port", sectionInternet, "port of a service", "{443|443|443|80|8080|5432|3306|22|25|8443}"),
		text("user-agent", sectionInternet, "what a browser calls itself", "{agent}"),
		text("browser", sectionInternet, "browser by market share", "{browser}"),
		text("os", sectionInternet, "operating system", "{os}"),
		text("media-type", sectionInternet, "media type", "{media}"),
		text("file-name", sectionInternet, "name of a file", "{file.stem}-{noun}-{01-99}.{media.extension}"),
		text("file-extension", sectionInternet, "extension of a file", "{media.extension}"),
		text("file-path", sectionInternet, "path of a file",
			"/{home|srv|var|data}/{noun}/{file.stem}-{01-99}.{media.extension}"),
		whole("file-size", sectionInternet, "size of a file in bytes: few are large",
			"{1-9|10-99|100-999|100-999|1000-9999|100-999}{000-999}"),
		whole("http-status", sectionInternet, "HTTP status, by frequency", "{status.http}"),
		text("http-method", sectionInternet, "HTTP method, by frequency", "{http.method}"),
		text("version", sectionInternet, "semantic version", "{0-5}.{0-19}.{0-29}"),
		text("slug", sectionInternet, "text for web addresses", "{adjective}-{noun}-{noun}"),
		text("hashtag", sectionInternet, "hashtag", "#{adjective}{noun}"),
		text("handle", sectionInternet, "name with an at sign", "@{adjective}_{noun}{1-99}"),
		checked("session-id", sectionInternet, "session of a browser", "{hex:4}{hex:4}{hex:4}", hexTo(32)),
		checked("digest", sectionInternet, "SHA-256 digest in hexadecimal", "{hex:4}{hex:4}{hex:4}", hexTo(64)),
		checked("commit-id", sectionInternet, "identity of a commit", "{hex:4}{hex:4}{hex:4}", hexTo(40)),
		text("api-token", sectionInternet, "token that is obviously for tests", "test_token_{hex:4}{hex:4}{hex:4}"),
		text("display-mode", sectionInternet, "light or dark display", "{light|light|light|dark|dark|system}"),

		// Devices and vehicles.
		text("serial-number", sectionMachines, "serial number", "{letter}{letter}-{0000-9999}-{0000-9999}"),
		text("device-type", sectionMachines, "kind of device", "{device}"),
		text("firmware", sectionMachines, "version of firmware", "v{1-4}.{0-9}.{0-19}-{|||rc1|beta}"),
		exact("temperature-c", sectionMachines, "temperature of a room", 1, "{17-19|20-22|20-22|20-22|23-26}.{0-9}"),
		whole("humidity-percent", sectionMachines, "relative humidity", "{30-65}"),
		whole("battery-percent", sectionMachines, "charge of a battery", "{5-30|31-70|71-100|71-100}"),
		text("vehicle-make", sectionMachines, "make of a vehicle, invented", "{vehicle}"),
		text("vehicle-model", sectionMachines, "model of a vehicle, invented", "{vehicle.model}"),
		text("fuel", sectionMachines, "what a vehicle runs on", "{fuel}"),
		text("plate", sectionMachines, "number plate of no country", "QX {000-999} {letter}{letter}"),
		checked("vin", sectionMachines, "vehicle number with its check digit, of a maker that does not exist",
			"ZZZ{A|B|C|D|E|F|G|H}{A|B|C|D|E|F}{1-5}{1-5}{1-3}*{L|M|N|P|R|S}{A|B|C}{000000-999999}", vinCheck),

		// Health and food.
		text("blood-group", sectionHealth, "blood group, by frequency", "{blood}"),
		text("allergy", sectionHealth, "allergy; most have none", "{allergy}"),
		text("diagnosis", sectionHealth, "common diagnosis", "{diagnosis}"),
		text("medical-specialty", sectionHealth, "field of medicine", "{specialty}"),
		text("dish", sectionHealth, "dish on a menu", "{food}"),
		text("ingredient", sectionHealth, "ingredient of a dish", "{ingredient}"),
		text("animal", sectionHealth, "pet animal", "{animal}"),
		text("pet-name", sectionHealth, "name of a pet", "{pet}"),
		text("sport", sectionHealth, "sport", "{sport}"),
		text("music-genre", sectionHealth, "kind of music", "{music}"),

		// Time.
		text("weekday", sectionTimes, "day of the week", "{weekday}"),
		text("month", sectionTimes, "month", "{month}"),
		text("opening-hours", sectionTimes, "opening hours", "{hours}"),
		whole("year", sectionTimes, "year of the recent past", "{2015-2019|2020-2025|2020-2025|2020-2025}"),
		whole("duration-minutes", sectionTimes, "length of an appointment", "{15|30|30|30|45|60|60|90|120}"),

		// Words, signs and codes.
		text("title", sectionTexts, "short heading", "{adjective/title} {noun/title}"),
		text("noun", sectionSigns, "plain noun", "{noun}"),
		text("adjective", sectionSigns, "plain adjective", "{adjective}"),
		text("tag", sectionSigns, "word to sort things by", "{noun}"),
		text("digits", sectionSigns, "eight digits, as on a ticket or a parcel", "{00000000-99999999}"),
		text("colour", sectionSigns, "name of a colour", "{colour}"),
		text("hex-colour", sectionSigns, "colour in hexadecimal", "#{hex:2}{hex:2}{hex:2}"),
		text("emoji", sectionSigns, "emoji", "{emoji}"),
		text("unit", sectionSigns, "unit of measurement", "{unit}"),
		text("locale", sectionSigns, "language and country (BCP 47)", "{locale}"),
		text("priority", sectionSigns, "priority of a task", "{priority}"),
		text("ticket-status", sectionSigns, "status of a ticket", "{status.ticket}"),
		text("log-level", sectionSigns, "level of a log record, by frequency", "{log.level}"),
		text("service", sectionSigns, "name of a service", "{service}"),
	}
}
