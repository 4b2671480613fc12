"""What customers' pages say themselves, by language; English where a language is not here."""

from __future__ import annotations

from typing import NamedTuple


class Words(NamedTuple):
    title: str
    about: str
    wanted: str
    needed: str
    save: str
    none: str
    saved: str
    left: str
    gone: str


WORDS: dict[str, Words] = {
    "en": Words(
        "Your notices from {shop}",
        "for {address}",
        "Tick what you would like to get:",
        "What you need to know about an order of yours (that it is with us, on its way, cancelled) always comes.",
        "Save",
        "Send me none of these",
        "Saved. It counts from now on.",
        "Done: you get none of these any more.",
        "This link is no longer valid. Answer any of our mails, and we take you off our list.",
    ),
    "de": Words(
        "Deine Benachrichtigungen von {shop}",
        "für {address}",
        "Wähle, was du bekommen möchtest:",
        "Was du zu einer Bestellung wissen musst (dass sie da ist, unterwegs, storniert), kommt immer.",
        "Speichern",
        "Nichts davon schicken",
        "Gespeichert. Das gilt ab jetzt.",
        "Erledigt: Du bekommst nichts davon mehr.",
        "Dieser Link gilt nicht mehr. Antworte auf eine unserer Mails, dann nehmen wir dich von der Liste.",
    ),
    "fr": Words(
        "Vos notifications de {shop}",
        "pour {address}",
        "Cochez ce que vous souhaitez recevoir :",
        "Ce qu’il faut savoir d’une commande (reçue, expédiée, annulée) vous est toujours envoyé.",
        "Enregistrer",
        "Ne rien m’envoyer de tout cela",
        "Enregistré. Cela vaut dès maintenant.",
        "C’est fait : vous ne recevrez plus rien de tout cela.",
        "Ce lien n’est plus valable. Répondez à l’un de nos messages et nous vous retirerons de la liste.",
    ),
    "es": Words(
        "Tus avisos de {shop}",
        "para {address}",
        "Marca lo que quieres recibir:",
        "Lo que debes saber de un pedido (recibido, enviado, cancelado) llega siempre.",
        "Guardar",
        "No enviarme nada de esto",
        "Guardado. Vale desde ahora.",
        "Hecho: ya no recibirás nada de esto.",
        "Este enlace ya no es válido. Responde a uno de nuestros correos y te quitaremos de la lista.",
    ),
    "it": Words(
        "I tuoi avvisi da {shop}",
        "per {address}",
        "Spunta ciò che vuoi ricevere:",
        "Ciò che serve sapere di un ordine (ricevuto, spedito, annullato) arriva sempre.",
        "Salva",
        "Non inviarmi nulla di questo",
        "Salvato. Vale da subito.",
        "Fatto: non riceverai più nulla di questo.",
        "Questo link non è più valido. Rispondi a una nostra mail e ti toglieremo dalla lista.",
    ),
    "nl": Words(
        "Je berichten van {shop}",
        "voor {address}",
        "Vink aan wat je wilt krijgen:",
        "Wat je over een bestelling moet weten (ontvangen, onderweg, geannuleerd) komt altijd.",
        "Opslaan",
        "Stuur me hier niets van",
        "Opgeslagen. Het geldt vanaf nu.",
        "Klaar: je krijgt hier niets meer van.",
        "Deze link is niet meer geldig. Beantwoord een van onze mails en we halen je van de lijst.",
    ),
}


def words(locale: str) -> Words:
    return WORDS.get(locale.partition("-")[0].lower(), WORDS["en"])


class QuestionWords(NamedTuple):
    until: str
    answered: str
    already: str
    late: str
    withdrawn: str
    write: str
    call: str
    to: str
    test: str
    languages: str


QUESTION_WORDS: dict[str, QuestionWords] = {
    "en": QuestionWords(
        "Please answer by {until}.",
        "Thank you. You answered: {answer}.",
        "You answered before: {answer}. That counts. Write to us if you want to change it.",
        "The time to answer was over on {ended}. Write to us if you still want to answer.",
        "This question is closed: the order has changed since. You need not answer.",
        "Write to us",
        "Call us",
        "To {address}",
        "This is a test. In a message to a customer, this link opens the page where the question is answered.",
        "Languages",
    ),
    "de": QuestionWords(
        "Bitte antworte bis {until}.",
        "Danke. Deine Antwort: {answer}.",
        "Du hast schon geantwortet: {answer}. Das gilt. Schreib uns, wenn du es ändern möchtest.",
        "Die Zeit für eine Antwort war am {ended} vorbei. Schreib uns, wenn du noch antworten möchtest.",
        "Diese Frage ist geschlossen: Die Bestellung hat sich seitdem geändert. Du musst nicht antworten.",
        "Schreib uns",
        "Ruf uns an",
        "An {address}",
        "Das ist ein Test. In einer Nachricht an Kunden öffnet dieser Link die Seite für die Antwort.",
        "Sprachen",
    ),
    "fr": QuestionWords(
        "Merci de répondre avant le {until}.",
        "Merci. Votre réponse : {answer}.",
        "Vous avez déjà répondu : {answer}. Cette réponse compte. Écrivez-nous pour la changer.",
        "Le délai de réponse a pris fin le {ended}. Écrivez-nous si vous souhaitez encore répondre.",
        "Cette question est close : la commande a changé depuis. Vous n’avez pas à répondre.",
        "Nous écrire",
        "Nous appeler",
        "À {address}",
        "Ceci est un test. Dans un message à un client, ce lien ouvre la page de réponse.",
        "Langues",
    ),
    "es": QuestionWords(
        "Responde antes del {until}.",
        "Gracias. Tu respuesta: {answer}.",
        "Ya respondiste: {answer}. Esa respuesta vale. Escríbenos si quieres cambiarla.",
        "El plazo para responder terminó el {ended}. Escríbenos si aún quieres responder.",
        "Esta pregunta está cerrada: el pedido ha cambiado desde entonces. No hace falta responder.",
        "Escríbenos",
        "Llámanos",
        "A {address}",
        "Esto es una prueba. En un mensaje a un cliente, este enlace abre la página de respuesta.",
        "Idiomas",
    ),
    "it": QuestionWords(
        "Rispondi entro {until}.",
        "Grazie. La tua risposta: {answer}.",
        "Hai già risposto: {answer}. Vale quella risposta. Scrivici se vuoi cambiarla.",
        "Il tempo per rispondere è finito {ended}. Scrivici se vuoi ancora rispondere.",
        "Questa domanda è chiusa: l’ordine è cambiato nel frattempo. Non serve rispondere.",
        "Scrivici",
        "Chiamaci",
        "A {address}",
        "Questa è una prova. In un messaggio a un cliente, questo link apre la pagina della risposta.",
        "Lingue",
    ),
    "nl": QuestionWords(
        "Antwoord graag vóór {until}.",
        "Bedankt. Je antwoord: {answer}.",
        "Je hebt al geantwoord: {answer}. Dat antwoord telt. Schrijf ons als je het wilt wijzigen.",
        "De tijd om te antwoorden liep af op {ended}. Schrijf ons als je nog wilt antwoorden.",
        "Deze vraag is gesloten: de bestelling is sindsdien gewijzigd. Je hoeft niet te antwoorden.",
        "Schrijf ons",
        "Bel ons",
        "Naar {address}",
        "Dit is een test. In een bericht aan een klant opent deze link de pagina voor het antwoord.",
        "Talen",
    ),
}


def question_words(locale: str) -> QuestionWords:
    return QUESTION_WORDS.get(locale.partition("-")[0].lower(), QUESTION_WORDS["en"])


class SignUpWords(NamedTuple):
    title: str
    number: str
    proof: str
    address: dict[str, str]
    agree: str
    send: str
    thanks: str
    missing: str
    wrong: str
    slow: str
    channels: dict[str, str]


SIGN_UP_WORDS: dict[str, SignUpWords] = {
    "en": SignUpWords(
        "Write to me about my order by {channel}",
        "Order number",
        "Your email address, phone number or postcode, as in the order",
        {"sms": "Mobile number", "chat": "Number of your chat account", "email": "Email address"},
        "I agree that {shop} writes to me about my order by {channel}. I can take that back with STOP at any time.",
        "Agree",
        "Thank you. If order number and address fit together, we write to you from now on.",
        "Fill in every field, and tick that you agree.",
        "That is no number or address that we can write to.",
        "Too many tries. Wait a minute, then try again.",
        {"sms": "SMS", "chat": "chat", "email": "email"},
    ),
    "de": SignUpWords(
        "Schreibt mir zu meiner Bestellung per {channel}",
        "Bestellnummer",
        "Deine E-Mail-Adresse, Telefonnummer oder Postleitzahl wie in der Bestellung",
        {"sms": "Handynummer", "chat": "Nummer deines Chat-Kontos", "email": "E-Mail-Adresse"},
        "Ich bin einverstanden, dass {shop} mir zu meiner Bestellung per {channel} schreibt. Mit STOPP kann ich das "
        "jederzeit zurücknehmen.",
        "Zustimmen",
        "Danke. Wenn Bestellnummer und Angabe zusammenpassen, schreiben wir dir von jetzt an.",
        "Fülle jedes Feld aus und kreuze an, dass du zustimmst.",
        "Das ist keine Nummer oder Adresse, an die wir schreiben können.",
        "Zu viele Versuche. Warte eine Minute, dann versuch es noch einmal.",
        {"sms": "SMS", "chat": "Chat", "email": "E-Mail"},
    ),
    "fr": SignUpWords(
        "M’écrire au sujet de ma commande par {channel}",
        "Numéro de commande",
        "Votre adresse e-mail, numéro de téléphone ou code postal, comme dans la commande",
        {"sms": "Numéro de portable", "chat": "Numéro de votre compte", "email": "Adresse e-mail"},
        "J’accepte que {shop} m’écrive au sujet de ma commande par {channel}. Je peux y mettre fin à tout moment avec "
        "STOP.",
        "J’accepte",
        "Merci. Si le numéro de commande et l’adresse concordent, nous vous écrirons désormais.",
        "Remplissez chaque champ et cochez votre accord.",
        "Ce n’est ni un numéro ni une adresse où nous pouvons écrire.",
        "Trop d’essais. Attendez une minute, puis réessayez.",
        {"sms": "SMS", "chat": "messagerie", "email": "e-mail"},
    ),
    "es": SignUpWords(
        "Escribidme sobre mi pedido por {channel}",
        "Número de pedido",
        "Tu correo, teléfono o código postal, como en el pedido",
        {"sms": "Número de móvil", "chat": "Número de tu cuenta de chat", "email": "Correo electrónico"},
        "Acepto que {shop} me escriba sobre mi pedido por {channel}. Puedo retirarlo con STOP en cualquier momento.",
        "Aceptar",
        "Gracias. Si el número de pedido y el dato coinciden, te escribiremos desde ahora.",
        "Rellena cada campo y marca que aceptas.",
        "No es un número ni una dirección a la que podamos escribir.",
        "Demasiados intentos. Espera un minuto y vuelve a intentarlo.",
        {"sms": "SMS", "chat": "chat", "email": "correo"},
    ),
    "it": SignUpWords(
        "Scrivetemi del mio ordine via {channel}",
        "Numero d’ordine",
        "La tua email, il telefono o il CAP, come nell’ordine",
        {"sms": "Numero di cellulare", "chat": "Numero del tuo account", "email": "Indirizzo email"},
        "Accetto che {shop} mi scriva del mio ordine via {channel}. Posso ritirarlo con STOP in ogni momento.",
        "Accetto",
        "Grazie. Se numero d’ordine e dato coincidono, ti scriveremo da ora in poi.",
        "Compila ogni campo e spunta che accetti.",
        "Non è un numero o un indirizzo a cui possiamo scrivere.",
        "Troppi tentativi. Aspetta un minuto e riprova.",
        {"sms": "SMS", "chat": "chat", "email": "email"},
    ),
    "nl": SignUpWords(
        "Schrijf mij over mijn bestelling via {channel}",
        "Bestelnummer",
        "Je e-mailadres, telefoonnummer of postcode, zoals in de bestelling",
        {"sms": "Mobiel nummer", "chat": "Nummer van je chataccount", "email": "E-mailadres"},
        "Ik ga ermee akkoord dat {shop} mij via {channel} over mijn bestelling schrijft. Met STOP trek ik dat op elk "
        "moment in.",
        "Akkoord",
        "Bedankt. Als bestelnummer en gegeven bij elkaar horen, schrijven we je vanaf nu.",
        "Vul elk veld in en vink aan dat je akkoord gaat.",
        "Dat is geen nummer of adres waarnaar we kunnen schrijven.",
        "Te veel pogingen. Wacht een minuut en probeer het opnieuw.",
        {"sms": "sms", "chat": "chat", "email": "e-mail"},
    ),
}


def sign_up_words(locale: str) -> SignUpWords:
    return SIGN_UP_WORDS.get(locale.partition("-")[0].lower(), SIGN_UP_WORDS["en"])


class WhyWords(NamedTuple):
    title: str
    sent: str
    order: str
    because: str
    agreed: str
    needed: str
    optional: str
    stop: str
    stop_sms: str
    link: str


WHY_WORDS: dict[str, WhyWords] = {
    "en": WhyWords(
        "Why you got this message",
        "We sent it to {address} on {at}.",
        "It is about your order {number}.",
        "It came because: {what}.",
        "You agreed to messages by this channel on {at}: “{words}”",
        "It says what you need to know about your order, so it is sent without a consent of its own.",
        "It is optional: you can choose not to get it.",
        "Choose which notices you get",
        "Answer STOP, and we no longer write to this number.",
        "Why you got this",
    ),
    "de": WhyWords(
        "Warum du diese Nachricht bekommen hast",
        "Wir haben sie am {at} an {address} geschickt.",
        "Es geht um deine Bestellung {number}.",
        "Sie kam, weil: {what}.",
        "Du hast Nachrichten auf diesem Weg am {at} zugestimmt: „{words}“",
        "Es ist eine Nachricht, die du zu deiner Bestellung brauchst; sie kommt ohne eigene Zustimmung.",
        "Sie ist freiwillig: Du kannst sie abwählen.",
        "Benachrichtigungen auswählen",
        "Antworte mit STOPP, dann schreiben wir dieser Nummer nicht mehr.",
        "Warum du das bekommst",
    ),
    "fr": WhyWords(
        "Pourquoi vous avez reçu ce message",
        "Nous l’avons envoyé à {address} le {at}.",
        "Il concerne votre commande {number}.",
        "Il est parti parce que : {what}.",
        "Vous avez accepté les messages par ce moyen le {at} : « {words} »",
        "C’est une information nécessaire à votre commande ; elle est envoyée sans accord particulier.",
        "Il est facultatif : vous pouvez y renoncer.",
        "Choisir mes notifications",
        "Répondez STOP et nous n’écrirons plus à ce numéro.",
        "Pourquoi ce message",
    ),
    "es": WhyWords(
        "Por qué has recibido este mensaje",
        "Lo enviamos a {address} el {at}.",
        "Trata de tu pedido {number}.",
        "Llegó porque: {what}.",
        "Aceptaste mensajes por este medio el {at}: «{words}»",
        "Es información que necesitas sobre tu pedido; se envía sin un consentimiento propio.",
        "Es opcional: puedes no recibirlo.",
        "Elegir qué avisos recibo",
        "Responde STOP y no escribiremos más a este número.",
        "Por qué recibes esto",
    ),
    "it": WhyWords(
        "Perché hai ricevuto questo messaggio",
        "Lo abbiamo inviato a {address} il {at}.",
        "Riguarda il tuo ordine {number}.",
        "È arrivato perché: {what}.",
        "Hai accettato messaggi con questo mezzo il {at}: «{words}»",
        "È un’informazione che ti serve per il tuo ordine; è inviata senza un consenso a parte.",
        "È facoltativo: puoi scegliere di non riceverlo.",
        "Scegli quali avvisi ricevere",
        "Rispondi STOP e non scriveremo più a questo numero.",
        "Perché ricevi questo",
    ),
    "nl": WhyWords(
        "Waarom je dit bericht kreeg",
        "We stuurden het op {at} naar {address}.",
        "Het gaat over je bestelling {number}.",
        "Het kwam omdat: {what}.",
        "Je ging op {at} akkoord met berichten via dit kanaal: “{words}”",
        "Het is nieuws dat je over je bestelling nodig hebt; het komt zonder aparte toestemming.",
        "Het is optioneel: je kunt ervoor kiezen het niet te krijgen.",
        "Kies welke berichten je krijgt",
        "Antwoord STOP en we schrijven niet meer naar dit nummer.",
        "Waarom je dit krijgt",
    ),
}


def why_words(locale: str) -> WhyWords:
    return WHY_WORDS.get(locale.partition("-")[0].lower(), WHY_WORDS["en"])


class DownloadWords(NamedTuple):
    title: str
    get: str
    left: str
    none: str
    over: str
    later: str


DOWNLOAD_WORDS: dict[str, DownloadWords] = {
    "en": DownloadWords(
        "Your files",
        "Download",
        "Downloads left: {left}, until {until}.",
        "All downloads have been used. Write to us if you need the files again.",
        "The time for this download is over. Write to us if you need the files again.",
        "The file can’t be had just now. Please try again later; this did not count.",
    ),
    "de": DownloadWords(
        "Deine Dateien",
        "Herunterladen",
        "Noch {left} Downloads möglich, bis {until}.",
        "Alle Downloads sind verbraucht. Schreib uns, wenn du die Dateien noch einmal brauchst.",
        "Die Zeit für diesen Download ist vorbei. Schreib uns, wenn du die Dateien noch einmal brauchst.",
        "Die Datei ist gerade nicht zu haben. Bitte versuche es später; das hat nicht gezählt.",
    ),
    "fr": DownloadWords(
        "Vos fichiers",
        "Télécharger",
        "Téléchargements restants : {left}, jusqu’au {until}.",
        "Tous les téléchargements ont été utilisés. Écrivez-nous si vous avez encore besoin des fichiers.",
        "Ce téléchargement n’est plus disponible. Écrivez-nous si vous avez encore besoin des fichiers.",
        "Le fichier n’est pas disponible pour l’instant. Réessayez plus tard ; rien n’a été décompté.",
    ),
    "es": DownloadWords(
        "Tus archivos",
        "Descargar",
        "Descargas restantes: {left}, hasta el {until}.",
        "Ya se han usado todas las descargas. Escríbenos si vuelves a necesitar los archivos.",
        "El plazo de esta descarga ha terminado. Escríbenos si vuelves a necesitar los archivos.",
        "El archivo no está disponible ahora. Inténtalo más tarde; no ha contado.",
    ),
    "it": DownloadWords(
        "I tuoi file",
        "Scarica",
        "Download rimasti: {left}, fino al {until}.",
        "Tutti i download sono stati usati. Scrivici se ti servono ancora i file.",
        "Il tempo per questo download è finito. Scrivici se ti servono ancora i file.",
        "Il file non è disponibile al momento. Riprova più tardi; non è stato contato.",
    ),
    "nl": DownloadWords(
        "Je bestanden",
        "Downloaden",
        "Nog {left} downloads, tot {until}.",
        "Alle downloads zijn gebruikt. Schrijf ons als je de bestanden nog nodig hebt.",
        "De tijd voor deze download is voorbij. Schrijf ons als je de bestanden nog nodig hebt.",
        "Het bestand is nu niet beschikbaar. Probeer het later; dit telde niet mee.",
    ),
}


def download_words(locale: str) -> DownloadWords:
    return DOWNLOAD_WORDS.get(locale.partition("-")[0].lower(), DOWNLOAD_WORDS["en"])


_HAPPENED = {
    "order.created": "the order was placed|die Bestellung kam an|la commande a été passée|se hizo el pedido"
    "|l’ordine è stato fatto|de bestelling is geplaatst",
    "order.paid": "the order was paid|die Bestellung wurde bezahlt|la commande a été payée|se pagó el pedido"
    "|l’ordine è stato pagato|de bestelling is betaald",
    "order.packed": "the order was packed|die Bestellung wurde gepackt|la commande a été emballée"
    "|se preparó el pedido|l’ordine è stato imballato|de bestelling is ingepakt",
    "parcel.picked_up": "the parcel is on its way|das Paket ist unterwegs|le colis est en route"
    "|el paquete está en camino|il pacco è in viaggio|het pakket is onderweg",
    "parcel.out_for_delivery": "the parcel is out for delivery|das Paket wird zugestellt|le colis est en livraison"
    "|el paquete está en reparto|il pacco è in consegna|het pakket wordt bezorgd",
    "parcel.delivered": "the parcel was delivered|das Paket wurde zugestellt|le colis a été livré"
    "|se entregó el paquete|il pacco è stato consegnato|het pakket is bezorgd",
    "order.cancelled": "the order was cancelled|die Bestellung wurde storniert|la commande a été annulée"
    "|se canceló el pedido|l’ordine è stato annullato|de bestelling is geannuleerd",
    "payment.refunded": "money was paid back|Geld wurde erstattet|un remboursement a été fait"
    "|se devolvió dinero|c’è stato un rimborso|er is geld terugbetaald",
    "answer.received": "you answered|du hast geantwortet|vous avez répondu|respondiste|hai risposto|je hebt geantwoord",
    "question.expired": "you had not answered|du hattest nicht geantwortet|vous n’aviez pas répondu"
    "|no habías respondido|non avevi risposto|je had niet geantwoord",
    "permission.given": "you signed up for it|du hast dich dafür angemeldet|vous vous y êtes inscrit|te apuntaste"
    "|ti sei iscritto|je hebt je aangemeld",
    "": "something about the order has changed|an der Bestellung hat sich etwas geändert"
    "|quelque chose a changé dans la commande|algo ha cambiado en el pedido|qualcosa è cambiato nell’ordine"
    "|er is iets aan de bestelling veranderd",
}
"""What happened, as customers read it, in the languages of `WORDS` in their order."""


def happened(event_type: str, locale: str) -> str:
    """What happened to an order, as its customer reads it."""
    languages = list(WORDS)
    language = locale.partition("-")[0].lower()
    texts = _HAPPENED.get(event_type, _HAPPENED[""]).split("|")
    return texts[languages.index(language) if language in languages else 0]
