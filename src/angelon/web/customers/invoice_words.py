"""What the page on which customers get their invoice says, by language; English where a language is not here."""

from __future__ import annotations

from typing import NamedTuple


class InvoiceWords(NamedTuple):
    ask: str
    title: str
    about: str
    name: str
    company: str
    lines: str
    postcode: str
    city: str
    country: str
    tax_number: str
    email: str
    make: str
    there: str
    download: str
    other: str
    held: str
    over: str
    enough: str
    number_wrong: str
    email_wrong: str
    later: str


_TEXTS = {
    "en": """Your invoice
        Invoice for order {number}
        Check for whom it is. You get it at once, here and by mail.
        Name
        Business, if it is for one
        Street and number
        Postcode
        Town
        Country
        Tax number of the business
        Send it to
        Make my invoice
        Your invoice {number} is ready.
        Download
        For another name or address? Then this one is credited, and you get another.
        We have noted that you want an invoice. We look at it, and write to you.
        The time in which invoices are made here is over for this order. Write to us.
        The invoice was changed as often as is possible here. Write to us.
        This tax number can’t be right for that country. Correct it, or leave it out.
        This is no email address.
        It could not be made just now. Try again in a moment.""",
    "de": """Deine Rechnung
        Rechnung zur Bestellung {number}
        Prüfe, für wen sie ist. Du bekommst sie sofort, hier und per Mail.
        Name
        Firma, falls es für eine ist
        Straße und Hausnummer
        Postleitzahl
        Ort
        Land
        Umsatzsteuernummer der Firma
        Senden an
        Rechnung erstellen
        Deine Rechnung {number} ist da.
        Herunterladen
        Für einen anderen Namen oder eine andere Adresse? Dann wird diese storniert, und du bekommst eine neue.
        Wir haben notiert, dass du eine Rechnung möchtest. Wir sehen es uns an und schreiben dir.
        Die Zeit, in der hier Rechnungen erstellt werden, ist für diese Bestellung vorbei. Schreib uns.
        Die Rechnung wurde so oft geändert, wie es hier geht. Schreib uns.
        Diese Umsatzsteuernummer kann für dieses Land nicht stimmen. Berichtige sie oder lass sie weg.
        Das ist keine Mailadresse.
        Es ging gerade nicht. Versuch es gleich noch einmal.""",
    "fr": """Votre facture
        Facture de la commande {number}
        Vérifiez à qui elle s’adresse. Vous l’obtenez aussitôt, ici et par e-mail.
        Nom
        Entreprise, le cas échéant
        Rue et numéro
        Code postal
        Ville
        Pays
        Numéro de TVA de l’entreprise
        Envoyer à
        Établir ma facture
        Votre facture {number} est prête.
        Télécharger
        Pour un autre nom ou une autre adresse ? Celle-ci sera annulée et vous en recevrez une autre.
        Nous avons noté que vous souhaitez une facture. Nous l’examinons et vous écrivons.
        Le délai pour établir une facture ici est passé pour cette commande. Écrivez-nous.
        La facture a été modifiée autant de fois que possible ici. Écrivez-nous.
        Ce numéro de TVA ne peut pas être juste pour ce pays. Corrigez-le ou laissez-le vide.
        Ce n’est pas une adresse e-mail.
        Ce n’était pas possible à l’instant. Réessayez dans un moment.""",
    "es": """Tu factura
        Factura del pedido {number}
        Comprueba para quién es. La recibes enseguida, aquí y por correo.
        Nombre
        Empresa, si es para una
        Calle y número
        Código postal
        Ciudad
        País
        NIF/IVA de la empresa
        Enviar a
        Crear mi factura
        Tu factura {number} está lista.
        Descargar
        ¿Para otro nombre u otra dirección? Entonces esta se anula y recibes otra.
        Hemos anotado que quieres una factura. La revisamos y te escribimos.
        El plazo para crear aquí la factura de este pedido ha pasado. Escríbenos.
        La factura se ha cambiado tantas veces como es posible aquí. Escríbenos.
        Este NIF/IVA no puede ser correcto para ese país. Corrígelo o déjalo vacío.
        Esto no es una dirección de correo.
        No ha sido posible ahora. Inténtalo de nuevo en un momento.""",
    "it": """La tua fattura
        Fattura dell’ordine {number}
        Controlla a chi è intestata. La ricevi subito, qui e per e-mail.
        Nome
        Azienda, se è per una
        Via e numero
        CAP
        Città
        Paese
        Partita IVA dell’azienda
        Invia a
        Crea la mia fattura
        La tua fattura {number} è pronta.
        Scarica
        Per un altro nome o indirizzo? Allora questa viene stornata e ne ricevi un’altra.
        Abbiamo annotato che desideri una fattura. La esaminiamo e ti scriviamo.
        Il termine per creare qui la fattura di questo ordine è passato. Scrivici.
        La fattura è stata cambiata tante volte quanto è possibile qui. Scrivici.
        Questa partita IVA non può essere giusta per quel paese. Correggila o lasciala vuota.
        Questo non è un indirizzo e-mail.
        Ora non è stato possibile. Riprova tra un momento.""",
    "nl": """Je factuur
        Factuur van bestelling {number}
        Controleer voor wie ze is. Je krijgt haar meteen, hier en per mail.
        Naam
        Bedrijf, als het voor een bedrijf is
        Straat en nummer
        Postcode
        Plaats
        Land
        Btw-nummer van het bedrijf
        Sturen naar
        Mijn factuur maken
        Je factuur {number} is klaar.
        Downloaden
        Voor een andere naam of een ander adres? Dan wordt deze ingetrokken en krijg je een nieuwe.
        We hebben genoteerd dat je een factuur wilt. We kijken ernaar en schrijven je.
        De tijd waarin hier facturen worden gemaakt is voor deze bestelling voorbij. Schrijf ons.
        De factuur is zo vaak gewijzigd als hier kan. Schrijf ons.
        Dit btw-nummer kan voor dat land niet kloppen. Verbeter het of laat het weg.
        Dit is geen mailadres.
        Het lukte nu niet. Probeer het zo opnieuw.""",
    "pl": """Twoja faktura
        Faktura do zamówienia {number}
        Sprawdź, dla kogo jest. Dostaniesz ją od razu, tutaj i mailem.
        Imię i nazwisko
        Firma, jeśli dla firmy
        Ulica i numer
        Kod pocztowy
        Miejscowość
        Kraj
        NIP firmy
        Wyślij na
        Wystaw moją fakturę
        Twoja faktura {number} jest gotowa.
        Pobierz
        Na inną nazwę lub adres? Wtedy ta zostanie skorygowana, a dostaniesz nową.
        Zapisaliśmy, że chcesz fakturę. Sprawdzimy to i napiszemy.
        Czas na wystawienie tu faktury do tego zamówienia minął. Napisz do nas.
        Fakturę zmieniono tyle razy, ile tu można. Napisz do nas.
        Ten NIP nie może być poprawny dla tego kraju. Popraw go lub pomiń.
        To nie jest adres e-mail.
        Teraz się nie udało. Spróbuj za chwilę.""",
    "pt": """A sua fatura
        Fatura da encomenda {number}
        Verifique para quem é. Recebe-a de imediato, aqui e por e-mail.
        Nome
        Empresa, se for para uma
        Rua e número
        Código postal
        Localidade
        País
        NIF da empresa
        Enviar para
        Criar a minha fatura
        A sua fatura {number} está pronta.
        Transferir
        Para outro nome ou morada? Então esta é anulada e recebe outra.
        Anotámos que deseja uma fatura. Vamos verificar e escrevemos-lhe.
        O prazo para criar aqui a fatura desta encomenda passou. Escreva-nos.
        A fatura foi alterada tantas vezes quanto é possível aqui. Escreva-nos.
        Este NIF não pode estar certo para esse país. Corrija-o ou deixe-o vazio.
        Isto não é um endereço de e-mail.
        Não foi possível agora. Tente de novo dentro de momentos.""",
}
INVOICE_WORDS = {tag: InvoiceWords(*(line.strip() for line in text.splitlines())) for tag, text in _TEXTS.items()}


def invoice_words(locale: str) -> InvoiceWords:
    return INVOICE_WORDS.get(locale.replace("_", "-").partition("-")[0].lower(), INVOICE_WORDS["en"])
