"""What carriers' and stores' own words for a parcel's state mean."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from angelon.core.parcels.stages import Stage
from angelon.core.specs.carrier import Carrier

_COMMON: tuple[tuple[Stage, str], ...] = (
    (
        Stage.RETURNED,
        """returned|return to sender|returning|returned to sender|back to sender|rts|retoure|zuruck an
        absender|retour a l expediteur|retourne|devuelto|devolucion|reso al mittente|restituito|retour
        afzender|zwrot|zwrocono|devolvido| retur|returneret|returnert|palautettu|vraceno|visszakuldve""",
    ),
    (
        Stage.FAILED,
        """failed|failure|delivery failed|delivery attempted|attempted delivery|attempt failed|delivery attempt|
        undelivered|undeliverable|not delivered|could not be delivered|missed|nobody home|not
        home|refused|exception| nicht zugestellt|zustellversuch|nicht angetroffen|zustellung nicht
        moglich|annahme verweigert|non livre|echec de livraison|tentative de livraison|absent|no
        entregado|intento de entrega|ausente|non consegnato|tentativo di consegna|niet bezorgd|bezorgpoging|nie
        doreczono|proba doreczenia|nao entregue|ej levererad|ikke levert|ikke leveret|ei
        toimitettu|nedoruceno|sikertelen""",
    ),
    (
        Stage.OUT_FOR_DELIVERY,
        """out for delivery|out today|on vehicle|with courier|with driver|in delivery|delivery today|loaded for
        delivery| in zustellung|wird zugestellt|zustellfahrzeug|in auslieferung|en cours de livraison|en
        livraison|en tournee|en reparto|in consegna|wordt bezorgd|bezorger onderweg|w doreczeniu|wydano do
        doreczenia|em entrega|saiu para entrega|ute for leverans|under utkjoring|under
        udbringning|jaossa|jakelussa|v doruceni|kezbesites alatt""",
    ),
    (
        Stage.READY_TO_COLLECT,
        """ready to collect|ready for collection|ready for pickup|ready for pick up|available for pickup|awaiting
        collection|at pickup point|at parcel shop|arrived at collection point|abholbereit|zur abholung|liegt zur
        abholung| disponible en point relais|a retirer|listo para recoger|pronto per il ritiro|klaar om af te
        halen|gotowe do odbioru|oczekuje na odbior|pronto para levantamento|redo att hamtas|klar til
        afhentning|klar til henting| noudettavissa""",
    ),
    (
        Stage.DELIVERED,
        """delivered|delivery complete|completed|handed over|received by customer|proof of delivery|pod|zugestellt|
        ausgeliefert|empfangen|abgeholt|livre|livree|remis|distribue|entregado|entregada|consegnato|consegnata|bezorgd|
        afgeleverd|doreczono|dostarczono|odebrano|entregue|levererad|levererat|leveret|levert|toimitettu|luovutettu|
        doruceno|dorucena|kezbesitve|dostavljeno|livrat|παραδοθηκε|доставлено|доставлен|вручено|配達完了|配達済み|已签收|
        已送达|배송완료|배달완료""",
    ),
    (
        Stage.IN_TRANSIT,
        """in transit|transit|intransit|on its way|on the way|en route|moving|departed|arrived|arrived at hub|at
        depot|at hub|sorting|sorted|processed|customs|held|delayed|unterwegs|im transport|in
        transport|sortierzentrum|zoll| en transit|acheminement|en transito|en camino|in transito|in
        viaggio|onderweg|w drodze|w transporcie|em transito| a caminho|under transport|pa vag|pa vei|pa
        vej|matkalla|na ceste|uton|in tranzit|в пути|輸送中|运输中|배송중""",
    ),
    (
        Stage.PICKED_UP,
        """picked up|pickup|pick up|collected|collected by carrier|accepted|handed to carrier|received by
        carrier|posted| dispatched|despatched|shipped|sent|abgeholt vom
        versender|abgegeben|versandt|verschickt|eingeliefert|pris en charge|
        expedie|expediee|depose|recogido|enviado|ritirato|spedito|presa in
        carico|opgehaald|verzonden|nadano|wyslano| odebrano od
        nadawcy|recolhido|expedido|upphamtad|skickad|afsendt|afhentet|sendt|hentet|noudettu|lahetetty|odeslano|
        podano|feladva|отправлено|принято""",
    ),
    (
        Stage.LABEL_PRINTED,
        """label|label printed|label created|created|announced|pre advised|preadvised|registered|information
        received| data received|order received|manifested|ready to ship|packed|booked|angekundigt|daten
        ubermittelt|angelegt|gepackt| annonce|etiquette creee|informacion recibida|etiqueta creada|etichetta
        creata|aangemeld|zarejestrowano|
        zarejestrowana|registado|registrerad|registreret|registrert|rekisteroity|zaregistrovano""",
    ),
)
"""What is commonly said of each stage, in the languages of shops. What says more comes first."""


@lru_cache(maxsize=5000)
def plain(words: str) -> str:
    """Words as they are compared: without case, accents and what joins them."""
    words = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", words)  # OutForDelivery
    apart = unicodedata.normalize("NFKD", words.casefold().replace("ø", "o").replace("ł", "l"))
    kept = "".join(sign for sign in apart if not unicodedata.combining(sign))
    return " ".join(re.sub(r"[\W_]+", " ", unicodedata.normalize("NFKC", kept)).split())


@lru_cache(maxsize=1)
def _table() -> tuple[tuple[Stage, frozenset[str]], ...]:
    return tuple((stage, frozenset(plain(one) for one in words.split("|"))) for stage, words in _COMMON)


@lru_cache(maxsize=2000)
def _common(words: str) -> Stage | None:
    said = plain(words)
    for stage in Stage:
        if said == plain(stage.value) or said == f"parcel {plain(stage.value)}":
            return stage
    whole = next((stage for stage, known in _table() if said in known), None)
    if whole is not None:
        return whole
    around = f" {said} "  # within a sentence only what is of several words, or long
    for stage, known in _table():
        if any(f" {one} " in around for one in known if " " in one or len(one) >= 8):
            return stage
    return None


def stage_of(words: str, carrier: Carrier | None = None, meanings: dict[str, str] | None = None) -> Stage | None:
    """What words for a parcel's state mean: by the carrier's own list, by what the source says of its statuses
    (`meanings`: event types), else as they are commonly used; None where nobody knows.
    """
    if carrier is not None:
        own = {plain(theirs): stage for theirs, stage in carrier.words.items()}
        if plain(words) in own:
            return own[plain(words)]
    said = (meanings or {}).get(words, "")
    kind, _, name = said.partition(".")
    if kind == "parcel" and name in {stage.value for stage in Stage}:
        return Stage(name)
    if said or not words.strip():
        return None
    return _common(words[:200])
