"""What the page of preferences says, by language; English where a language is not here."""

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
