package draft

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
)

// sums lets amounts agree: a line costs its quantity times its price, and what stands above lines is their sum.
func (d *drafter) sums() {
	for _, t := range d.tables {
		if !t.existing {
			t.priceOfProduct()
			t.lineTotal()
		}
	}
	for _, t := range d.tables {
		if !t.existing {
			t.sumOfLines()
			t.gross()
			t.counters()
		}
	}
	for _, t := range d.tables {
		if !t.existing {
			t.amountOfOrder()
		}
	}
}

// meaning is the first field that may be computed and whose name says something, and none of the others.
func (t *Table) meaning(notions string, kinds []schema.Kind, but ...string) *Field {
	return t.first(notions, kinds, but, t.computes)
}

// given is the first field with a value in every row whose name says something, and none of the others.
func (t *Table) given(notions string, kinds []schema.Kind, but ...string) *Field {
	return t.first(notions, kinds, but, func(f *Field) bool {
		return f.Column.NotNull && f.ref == nil && !f.unsaid && f.Source.Text != "" && !f.Source.Fixed
	})
}

// first is the first such field whose name says something, and none of the others.
func (t *Table) first(notions string, kinds []schema.Kind, but []string, such func(*Field) bool) *Field {
	for _, f := range t.Fields {
		m := lexicon.Of(f.Column.Name)
		if m.Says(strings.Fields(notions)...) && !m.Says(but...) && slices.Contains(kinds, f.Column.Kind) && such(f) {
			return f
		}
	}
	return nil
}

// computes reports whether a field may be computed from others: nothing else decides about it.
func (t *Table) computes(f *Field) bool {
	if f.ref != nil || f.lead || f.unsaid || f.Unique || t.inKey(f) || f.Source.Follows {
		return false
	}
	if !strings.HasPrefix(f.Source.Text, "{between") && !strings.HasPrefix(f.Source.Text, "{kind") {
		return false
	}
	return t.takesAmounts(f)
}

// takesAmounts reports whether conditions ask for no more of a field than that it is not below 0.
func (t *Table) takesAmounts(f *Field) bool {
	d := t.domains[f.Column.Name]
	if d == nil {
		return true
	}
	if d.Only != nil || d.Max != nil || len(d.Not) > 0 || len(d.opaque) > 0 || len(d.Shapes) > 0 {
		return false
	}
	low, ok := inUnits(d.Min, uint8(scaleOf(f.Column)), true)
	return !ok || low <= 0
}

// quantityTimesPrice says how the total of a line is computed.
const quantityTimesPrice = "quantity times price"

// compute lets a field be an expression, or the value of others.
func (f *Field) compute(text, why string) {
	f.Source, f.Nulls, f.nulls, f.Comment = Source{Text: text}, false, "", why
}

var decimals = []schema.Kind{schema.Decimal, schema.Real}
var integers = []schema.Kind{schema.Integer}

// digits reports whether a decimal column has room for amounts.
func (f *Field) hasRoom() bool {
	const room = 6 // digits before the point: three lines of 100 pieces at 999.99
	return f.Column.Precision == 0 || f.Column.Precision-f.Column.Scale >= room
}

// leads are the fields that pick a row without which theirs cannot be, with the tables that they pick from.
func (t *Table) leads() iter.Seq2[*Field, *Table] {
	return func(yield func(*Field, *Table) bool) {
		for _, f := range t.Fields {
			if !f.lead || f.ref == nil || !f.Column.NotNull {
				continue
			}
			if of := f.ref.known(); of != nil && !of.existing && of != t && !yield(f, of) {
				return
			}
		}
	}
}

// priceOfProduct lets the price of a line be that of what is sold.
func (t *Table) priceOfProduct() {
	price := t.meaning("price", decimals, "total", "tax", "discount")
	if price == nil || t.given("quantity", integers) == nil {
		return
	}
	for f, of := range t.leads() {
		own := of.given("price", decimals, "total", "tax", "discount", "old", "cost")
		if own == nil || own.Column.Scale > price.Column.Scale ||
			t.parent != nil && of.head() == t.head() {
			continue
		}
		price.compute(fmt.Sprintf("{same: %s.%s}", quoteField(f.Name), quoteField(own.Name)),
			"the price of the "+strings.ToLower(of.Entity))
		return
	}
}

// lineTotal lets the total of a line be its quantity times its price.
func (t *Table) lineTotal() {
	quantity := t.given("quantity", integers)
	price := t.given("price", decimals, "total", "tax", "discount")
	total := t.meaning("total amount subtotal", decimals, "tax", "discount", "fee")
	if quantity == nil || price == nil || total == nil || total == price || !areWords(quantity, price, total) ||
		!total.hasRoom() {
		return
	}
	scale := scaleOf(total.Column)
	text := fmt.Sprintf("round(%s * %s, %d)", derived(quantity), derived(price), scale)
	why := quantityTimesPrice
	if off := t.meaning("discount", decimals); off != nil && off.Column.NotNull && off != total &&
		t.find("saving") == nil {
		why += ", less the discount"
		if nameSays(off, "percent") {
			off.Source = Source{Text: "{choose: {0: 80, 10: 15, 20: 5}}"}
			text = fmt.Sprintf("round(%s * %s * (100 - %s) * decimal('0.01'), %d)", derived(quantity), derived(price),
				derived(off), scale)
		} else {
			off.Draws = append(off.Draws, Draw{"saving", "{choose: {0: 80, 10: 15, 20: 5}}"})
			off.compute(fmt.Sprintf(`{derive: "round(%s * %s * saving * decimal('0.01'), %d)"}`, derived(quantity),
				derived(price), scaleOf(off.Column)), "saving is in percent")
			text += " - " + derived(off)
		}
	}
	total.compute(fmt.Sprintf("{derive: %q}", text), why)
}

// nameSays reports whether the name of a field says something.
func nameSays(f *Field, notion string) bool {
	m := lexicon.Of(f.Column.Name)
	return m.Says(notion)
}

// derived is the name of a field in an expression.
func derived(f *Field) string { return f.Name }

// sumOfLines lets what stands above lines be their sum, with taxes and fees.
func (t *Table) sumOfLines() {
	lines, of := t.linesBelow()
	if lines == nil {
		return
	}
	sum := fmt.Sprintf("{sum: %s.%s}", lines.Entity, quoteField(of.Name))
	why := "of the " + strings.ToLower(lines.Schema.LocalName())
	subtotal := t.meaning("subtotal", decimals, "tax", "fee")
	total := t.meaning("total amount", decimals, "tax", "fee", "discount", "subtotal", "paid")
	if subtotal == nil {
		if total != nil && total.hasRoom() {
			total.compute(sum, why)
		}
		return
	}
	if !subtotal.hasRoom() {
		return
	}
	subtotal.compute(sum, why)
	text := t.withTaxAndFees(subtotal)
	if total != nil && total.hasRoom() && isFieldWord(text) {
		total.compute(fmt.Sprintf("{derive: %q}", text), "the sum with taxes and fees")
	}
}

// withTaxAndFees is the sum of lines with a tax and fees, which are computed and chosen for it.
func (t *Table) withTaxAndFees(subtotal *Field) string {
	text := derived(subtotal)
	if tax := t.meaning("tax vat", decimals, "percent"); tax != nil && tax.Column.NotNull &&
		strings.HasPrefix(tax.Source.Text, "{between") {
		tax.compute(fmt.Sprintf(`{derive: "round(%s * decimal('0.2'), %d)"}`, derived(subtotal), scaleOf(tax.Column)),
			"a fifth of the sum")
		text += " + " + derived(tax)
	}
	for _, f := range t.Fields {
		if nameSays(f, "fee") && slices.Contains(decimals, f.Column.Kind) && f.Column.NotNull && t.computes(f) {
			f.Source = Source{Text: "{choose: {0.00: 40, 4.90: 40, 9.90: 20}}"}
			text += " + " + derived(f)
		}
	}
	return text
}

// areWords reports whether the names of fields can stand in an expression.
func areWords(fields ...*Field) bool {
	return !slices.ContainsFunc(fields, func(f *Field) bool { return !isFieldWord(f.Name) || f.Name == "" })
}

// gross lets a total be the net amount with the tax of a rate.
func (t *Table) gross() {
	net := t.given("subtotal", decimals)
	rate := t.first("tax vat", decimals, nil, func(f *Field) bool {
		return f.Source.Text == "{kind: tax-rate}" && f.Column.NotNull
	})
	total := t.meaning("total", decimals, "subtotal", "tax", "fee", "discount")
	if net == nil || rate == nil || total == nil || total == net || !areWords(net, rate, total) || !total.hasRoom() {
		return
	}
	total.compute(fmt.Sprintf(`{derive: "round(%s * (100 + %s) * decimal('0.01'), %d)"}`, net.Name, rate.Name,
		scaleOf(total.Column)), "the net amount with tax")
}

// isFieldWord reports whether an expression has only names that can stand in one.
func isFieldWord(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool {
		return r != '_' && r != '+' && r != ' ' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) < 0
}

// linesBelow is the one child whose rows have amounts of their own, and these.
func (t *Table) linesBelow() (*Table, *Field) {
	var lines *Table
	var of *Field
	for _, o := range t.d.tables {
		if o.parent == nil || o.parent.known() != t {
			continue
		}
		for _, f := range o.Fields {
			if strings.HasPrefix(f.Source.Text, "{derive: \"round(") &&
				strings.HasPrefix(f.Comment, quantityTimesPrice) {
				if lines != nil {
					return nil, nil
				}
				lines, of = o, f
			}
		}
	}
	return lines, of
}

// counters lets a count of rows below be one: item_count, comments_count.
func (t *Table) counters() {
	for _, f := range t.Fields {
		m := lexicon.Of(f.Column.Name)
		list := lexicon.Words(strings.ToLower(f.Column.Name))
		if f.Column.Kind != schema.Integer || !m.Says("count", "number", "quantity") || len(list) < 2 ||
			!t.computes(f) {
			continue
		}
		for _, o := range t.d.tables {
			if o.parent == nil || o.parent.known() != t || len(o.parent.Columns) != 1 {
				continue
			}
			of := lexicon.Words(strings.ToLower(o.Schema.LocalName()))
			last := of[len(of)-1]
			if slices.ContainsFunc(
				list,
				func(w string) bool { return len(w) > 2 && lexicon.Singular(w) == lexicon.Singular(last) },
			) {
				f.compute(fmt.Sprintf("{count_of: %s}", o.Entity), "")
				break
			}
		}
	}
}

// amountOfOrder lets a payment be as high as what it pays for.
func (t *Table) amountOfOrder() {
	m := lexicon.Of(t.Schema.LocalName())
	if !m.Says("payment", "invoice", "paid") {
		return
	}
	amount := t.meaning("amount total", decimals, "tax", "fee", "discount", "subtotal")
	if amount == nil {
		return
	}
	for f, of := range t.leads() {
		total := of.given("total", decimals, "subtotal")
		if total != nil && total.Column.Scale <= amount.Column.Scale && amount.hasRoom() {
			amount.compute(fmt.Sprintf("{same: %s.%s}", quoteField(f.Name), quoteField(total.Name)),
				"the total of the "+strings.ToLower(of.Entity))
			return
		}
	}
}
