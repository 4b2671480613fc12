"""What the page on which customers follow their parcels says, by language; English where a language is not here."""

from __future__ import annotations

from typing import NamedTuple


class FollowWords(NamedTuple):
    title: str
    about_none: str
    quiet: str
    expected: str
    late: str
    estimated: str
    failed: str
    returned: str
    collect: str
    inside: str
    rest: str
    at_carrier: str
    wrong: str
    write: str
    ask: str
    show: str
    unknown: str
    notify: str
    notify_at: str
    notify_do: str
    other_number: str
    notified: str
    test: str


_TEXTS = {
    "en": """Your order {number}
        Nothing is on its way yet. As soon as a parcel is, it is seen here.
        The carrier has told nothing yet.
        Expected {day}
        It takes longer than expected.
        Delivered, as far as we can tell: the carrier has not confirmed it.
        The parcel could not be handed over. The carrier tries again, or leaves word.
        The parcel is on its way back to us.
        Ready to collect
        In this parcel
        In no parcel yet
        Its page at {carrier}
        Anything wrong?
        Write to us
        Where is my order?
        Show my order
        There is no order with this number and this address. Check both.
        Shall we tell you when it is out for delivery?
        Your mobile number
        Tell me by SMS
        This order was placed with another number. Write that one, or write to us.
        You will get an SMS.
        This is the link of a test: it leads to nobody’s parcels.""",
    "de": """Deine Bestellung {number}
        Noch ist nichts unterwegs. Sobald ein Paket unterwegs ist, steht es hier.
        Der Paketdienst hat noch nichts gemeldet.
        Erwartet {day}
        Es dauert länger als erwartet.
        Zugestellt, soweit wir wissen: Der Paketdienst hat es nicht bestätigt.
        Das Paket konnte nicht übergeben werden. Der Paketdienst versucht es noch einmal oder gibt Bescheid.
        Das Paket ist auf dem Rückweg zu uns.
        Liegt zur Abholung bereit
        In diesem Paket
        Noch in keinem Paket
        Seine Seite bei {carrier}
        Stimmt etwas nicht?
        Schreib uns
        Wo ist meine Bestellung?
        Bestellung zeigen
        Es gibt keine Bestellung mit dieser Nummer und dieser Adresse. Prüfe beides.
        Sollen wir dir sagen, wenn es zugestellt wird?
        Deine Mobilnummer
        Per SMS Bescheid geben
        Bestellt wurde mit einer anderen Nummer. Schreib diese, oder schreib uns.
        Du bekommst eine SMS.
        Das ist der Link eines Tests: Er führt zu niemandes Paketen.""",
    "fr": """Votre commande {number}
        Rien n’est encore parti. Dès qu’un colis est en route, il apparaît ici.
        Le transporteur n’a encore rien annoncé.
        Prévu {day}
        C’est plus long que prévu.
        Livré, à notre connaissance : le transporteur ne l’a pas confirmé.
        Le colis n’a pas pu être remis. Le transporteur réessaie ou laisse un avis.
        Le colis revient chez nous.
        Prêt à être retiré
        Dans ce colis
        Pas encore dans un colis
        Sa page chez {carrier}
        Un problème ?
        Écrivez-nous
        Où est ma commande ?
        Voir ma commande
        Aucune commande n’a ce numéro et cette adresse. Vérifiez les deux.
        Voulez-vous être prévenu quand il est en livraison ?
        Votre numéro de mobile
        Me prévenir par SMS
        La commande a été passée avec un autre numéro. Indiquez celui-là, ou écrivez-nous.
        Vous recevrez un SMS.
        C’est le lien d’un test : il ne mène aux colis de personne.""",
    "es": """Tu pedido {number}
        Todavía no hay nada en camino. En cuanto salga un paquete, lo verás aquí.
        El transportista aún no ha informado de nada.
        Previsto {day}
        Tarda más de lo previsto.
        Entregado, según creemos: el transportista no lo ha confirmado.
        No se pudo entregar el paquete. El transportista lo intentará de nuevo o dejará aviso.
        El paquete vuelve a nosotros.
        Listo para recoger
        En este paquete
        Aún en ningún paquete
        Su página en {carrier}
        ¿Algo va mal?
        Escríbenos
        ¿Dónde está mi pedido?
        Ver mi pedido
        No hay ningún pedido con este número y esta dirección. Revisa ambos.
        ¿Te avisamos cuando esté en reparto?
        Tu número de móvil
        Avisarme por SMS
        El pedido se hizo con otro número. Escribe ese, o escríbenos.
        Recibirás un SMS.
        Es el enlace de una prueba: no lleva a los paquetes de nadie.""",
    "it": """Il tuo ordine {number}
        Non è ancora partito nulla. Appena parte un pacco, lo vedi qui.
        Il corriere non ha ancora comunicato nulla.
        Previsto {day}
        Ci vuole più del previsto.
        Consegnato, per quanto ne sappiamo: il corriere non lo ha confermato.
        Non è stato possibile consegnare il pacco. Il corriere riprova o lascia un avviso.
        Il pacco sta tornando da noi.
        Pronto per il ritiro
        In questo pacco
        Non ancora in un pacco
        La sua pagina presso {carrier}
        Qualcosa non va?
        Scrivici
        Dov’è il mio ordine?
        Mostra il mio ordine
        Nessun ordine ha questo numero e questo indirizzo. Controlla entrambi.
        Ti avvisiamo quando è in consegna?
        Il tuo numero di cellulare
        Avvisami per SMS
        L’ordine è stato fatto con un altro numero. Scrivi quello, o scrivici.
        Riceverai un SMS.
        È il link di una prova: non porta ai pacchi di nessuno.""",
    "nl": """Je bestelling {number}
        Er is nog niets onderweg. Zodra een pakket vertrekt, zie je het hier.
        De vervoerder heeft nog niets gemeld.
        Verwacht {day}
        Het duurt langer dan verwacht.
        Bezorgd, voor zover we weten: de vervoerder heeft het niet bevestigd.
        Het pakket kon niet worden afgegeven. De vervoerder probeert het opnieuw of laat een bericht achter.
        Het pakket komt naar ons terug.
        Klaar om af te halen
        In dit pakket
        Nog in geen pakket
        De pagina bij {carrier}
        Klopt er iets niet?
        Schrijf ons
        Waar is mijn bestelling?
        Toon mijn bestelling
        Er is geen bestelling met dit nummer en dit adres. Controleer beide.
        Zullen we je laten weten wanneer het wordt bezorgd?
        Je mobiele nummer
        Laat het me per sms weten
        De bestelling is met een ander nummer gedaan. Schrijf dat nummer, of schrijf ons.
        Je krijgt een sms.
        Dit is de link van een test: hij leidt naar niemands pakketten.""",
}
FOLLOW_WORDS = {
    tag: FollowWords(*(line.strip() for line in text.splitlines() if line.strip())) for tag, text in _TEXTS.items()
}


def follow_words(locale: str) -> FollowWords:
    return FOLLOW_WORDS.get(locale.partition("-")[0].lower(), FOLLOW_WORDS["en"])
