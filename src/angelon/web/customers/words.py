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
