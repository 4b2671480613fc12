"""What documents say by themselves, by language. Sentences about tax name the rule and no advice."""

from __future__ import annotations

from dataclasses import dataclass

_LANGUAGES = ("en", "de", "fr", "es", "it", "nl", "pl", "pt")
_WORDS: dict[str, str] = {
    "invoice": "Invoice|Rechnung|Facture|Factura|Fattura|Factuur|Faktura|Fatura",
    "credit": "Credit note|Gutschrift (Rechnungskorrektur)|Avoir|Factura rectificativa|Nota di credito|Creditnota"
    "|Faktura korygująca|Nota de crédito",
    "proforma": "Proforma invoice|Proforma-Rechnung|Facture proforma|Factura proforma|Fattura proforma"
    "|Pro-formafactuur|Faktura pro forma|Fatura pro forma",
    "delivery": "Delivery note|Lieferschein|Bon de livraison|Albarán|Documento di trasporto|Pakbon|List przewozowy"
    "|Guia de remessa",
    "number": "Number|Nummer|Numéro|Número|Numero|Nummer|Numer|Número",
    "date": "Date|Datum|Date|Fecha|Data|Datum|Data|Data",
    "order": "Order|Bestellung|Commande|Pedido|Ordine|Bestelling|Zamówienie|Encomenda",
    "supplied": "Date of supply|Leistungsdatum|Date de livraison|Fecha de entrega|Data di consegna|Leverdatum"
    "|Data dostawy|Data de entrega",
    "corrects": "Corrects invoice {number} of {date}|Berichtigt die Rechnung {number} vom {date}"
    "|Rectifie la facture {number} du {date}|Rectifica la factura {number} del {date}"
    "|Rettifica la fattura {number} del {date}|Corrigeert factuur {number} van {date}"
    "|Koryguje fakturę {number} z dnia {date}|Retifica a fatura {number} de {date}",
    "seller_number": "Our tax number|Unsere USt-IdNr. oder Steuernummer|Notre n° de TVA|Nuestro NIF/IVA"
    "|La nostra partita IVA|Ons btw-nummer|Nasz NIP|O nosso NIF",
    "buyer_number": "Your tax number|Ihre USt-IdNr.|Votre n° de TVA|Su NIF/IVA|La sua partita IVA|Uw btw-nummer"
    "|Państwa NIP|O seu NIF",
    "item": "Item|Artikel|Article|Artículo|Articolo|Artikel|Pozycja|Artigo",
    "quantity": "Quantity|Menge|Quantité|Cantidad|Quantità|Aantal|Ilość|Quantidade",
    "net": "Net|Netto|HT|Neto|Netto|Netto|Netto|Líquido",
    "tax": "Tax|USt.|TVA|IVA|IVA|Btw|VAT|IVA",
    "gross": "Gross|Brutto|TTC|Bruto|Lordo|Bruto|Brutto|Bruto",
    "postage": "Postage|Versand|Frais de port|Gastos de envío|Spedizione|Verzendkosten|Wysyłka|Portes",
    "discount": "Discount|Rabatt|Remise|Descuento|Sconto|Korting|Rabat|Desconto",
    "total": "Total|Summe|Total|Total|Totale|Totaal|Razem|Total",
    "gift_card": "Paid by gift card|Mit Gutschein bezahlt|Payé par carte cadeau|Pagado con tarjeta regalo"
    "|Pagato con carta regalo|Betaald met cadeaubon|Zapłacono kartą podarunkową|Pago com cartão-presente",
    "paid": "Paid|Bezahlt|Payé|Pagado|Pagato|Betaald|Zapłacono|Pago",
    "due": "To pay|Zu zahlen|À payer|A pagar|Da pagare|Te betalen|Do zapłaty|A pagar",
    "of_which": "Of which {percent}: {tax} on {net}|Davon {percent}: {tax} auf {net}|Dont {percent} : {tax} sur {net}"
    "|De los cuales {percent}: {tax} sobre {net}|Di cui {percent}: {tax} su {net}"
    "|Waarvan {percent}: {tax} over {net}|W tym {percent}: {tax} od {net}|Dos quais {percent}: {tax} sobre {net}",
    "mixed": "mixed|gemischt|mixte|mixto|misto|gemengd|różne|misto",
    "also_in": "The tax is {amount} at {rate} of {date}|Die Steuer beträgt {amount} zum Kurs {rate} vom {date}"
    "|La taxe s’élève à {amount} au cours de {rate} du {date}|El impuesto es {amount} al cambio {rate} del {date}"
    "|L’imposta è di {amount} al cambio {rate} del {date}|De btw is {amount} tegen {rate} van {date}"
    "|Podatek wynosi {amount} po kursie {rate} z dnia {date}|O imposto é {amount} ao câmbio {rate} de {date}",
    "reverse_charge": "Intra-community supply of goods, exempt from tax; the buyer owes the tax (reverse charge)."
    "|Steuerfreie innergemeinschaftliche Lieferung; der Erwerber schuldet die Steuer (reverse charge)."
    "|Livraison intracommunautaire exonérée de TVA ; autoliquidation par l’acquéreur."
    "|Entrega intracomunitaria exenta de IVA; inversión del sujeto pasivo."
    "|Cessione intracomunitaria non imponibile; inversione contabile a carico dell’acquirente."
    "|Intracommunautaire levering, vrijgesteld van btw; btw verlegd naar de afnemer."
    "|Wewnątrzwspólnotowa dostawa towarów ze zwolnieniem; odwrotne obciążenie nabywcy."
    "|Transmissão intracomunitária isenta de IVA; autoliquidação pelo adquirente.",
    "export": "Export outside the European Union, exempt from tax."
    "|Steuerfreie Ausfuhrlieferung in ein Gebiet außerhalb der Europäischen Union."
    "|Exportation hors de l’Union européenne, exonérée de TVA.|Exportación fuera de la Unión Europea, exenta de IVA."
    "|Esportazione fuori dall’Unione europea, non imponibile.|Uitvoer buiten de Europese Unie, vrijgesteld van btw."
    "|Eksport poza Unię Europejską, zwolniony z podatku.|Exportação para fora da União Europeia, isenta de IVA.",
    "small": "Exempt from tax under the special scheme for small enterprises."
    "|Kein Ausweis von Umsatzsteuer, da Kleinunternehmer."
    "|TVA non applicable, régime particulier des petites entreprises.|Exento de IVA, régimen de las pequeñas empresas."
    "|Operazione esente da IVA, regime speciale delle piccole imprese."
    "|Vrijgesteld van btw, regeling voor kleine ondernemingen."
    "|Zwolnione z VAT, procedura szczególna dla małych przedsiębiorstw."
    "|Isento de IVA, regime especial das pequenas empresas.",
    "not_an_invoice": "This is no invoice.|Dies ist keine Rechnung.|Ceci n’est pas une facture.|Esto no es una factura."
    "|Questo documento non è una fattura.|Dit is geen factuur.|To nie jest faktura.|Isto não é uma fatura.",
    "questions": "Questions about this document: {address}|Fragen zu diesem Beleg: {address}"
    "|Questions sur ce document : {address}|Preguntas sobre este documento: {address}"
    "|Domande su questo documento: {address}|Vragen over dit document: {address}|Pytania dotyczące dokumentu: {address}"
    "|Perguntas sobre este documento: {address}",
    "page": "Page {page} of {pages}|Seite {page} von {pages}|Page {page} sur {pages}|Página {page} de {pages}"
    "|Pagina {page} di {pages}|Pagina {page} van {pages}|Strona {page} z {pages}|Página {page} de {pages}",
}


@dataclass(frozen=True, slots=True)
class Wording:
    """What documents say in one language; English where nobody has translated it."""

    language: str

    def __getitem__(self, name: str) -> str:
        at = _LANGUAGES.index(self.language) if self.language in _LANGUAGES else 0
        return _WORDS[name].split("|")[at]


def wording(locale: str) -> Wording:
    language = locale.replace("_", "-").partition("-")[0].lower()
    return Wording(language if language in _LANGUAGES else "en")
