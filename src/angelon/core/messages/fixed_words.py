"""The words that mails bring themselves, such as “Total” under the table of lines or the sentence about leaving, by
language.

A shop may say them otherwise, or in a language that is not here, on the page Letterhead.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

OwnWords = Mapping[str, Mapping[Any, str]]
"""By locale, then by name: what a shop says otherwise."""

NAMES = {
    "total": "Total",
    "postage": "Postage",
    "discount": "Discount",
    "tax": "Tax",
    "tax_within": "of which tax",
    "packed": "packed",
    "on_its_way": "on its way",
    "at_your_door": "out for delivery",
    "delivered": "delivered",
    "expected": "expected",
    "leave_why": "You get this because you have ordered from us.",
    "leave_link": "Choose which notices you get",
}
"""Each word by its name, in English."""
_OTHER = {
    "ar": "المجموع|الشحن|الخصم|الضريبة|منها ضريبة|تم التجهيز|في الطريق|قيد التسليم|تم التسليم|متوقع"
    "|تصلك هذه الرسالة لأنك طلبت من متجرنا.|اختيار الإشعارات",
    "bg": "Общо|Доставка|Отстъпка|Данък|включен данък|опакована|на път|за доставка днес|доставена|очаква се"
    "|Получавате това, защото поръчахте при нас.|Изберете известията си",
    "cs": "Celkem|Doprava|Sleva|Daň|z toho daň|zabaleno|na cestě|právě se doručuje|doručeno|očekáváno"
    "|Tuto zprávu dostáváte, protože jste u nás objednali.|Vybrat oznámení",
    "da": "I alt|Fragt|Rabat|Moms|heraf moms|pakket|på vej|under udbringning|leveret|forventet"
    "|Du får denne besked, fordi du har bestilt hos os.|Vælg, hvilke beskeder du får",
    "de": "Gesamt|Versand|Rabatt|Steuer|darin Steuer|gepackt|unterwegs|in Zustellung|zugestellt|erwartet"
    "|Du bekommst das, weil du bei uns bestellt hast.|Benachrichtigungen auswählen",
    "el": "Σύνολο|Μεταφορικά|Έκπτωση|Φόρος|περιλαμβάνει φόρο|συσκευάστηκε|καθ’ οδόν|προς παράδοση|παραδόθηκε|αναμένεται"
    "|Λαμβάνετε αυτό το μήνυμα επειδή κάνατε παραγγελία.|Επιλέξτε ποιες ειδοποιήσεις λαμβάνετε",
    "es": "Total|Envío|Descuento|Impuesto|incluido impuesto|empaquetado|en camino|en reparto|entregado|previsto"
    "|Recibes este mensaje porque has hecho un pedido.|Elegir qué avisos recibo",
    "fa": "جمع کل|هزینه ارسال|تخفیف|مالیات|شامل مالیات|بسته‌بندی شد|در راه|در حال تحویل|تحویل شد|تحویل احتمالی"
    "|این پیام را دریافت می‌کنید چون از ما سفارش داده‌اید.|انتخاب اعلان‌ها",
    "fi": "Yhteensä|Toimitus|Alennus|Vero|sis. veroa|pakattu|matkalla|jaossa|toimitettu|arvioitu"
    "|Saat tämän viestin, koska olet tilannut meiltä.|Valitse, mitä viestejä saat",
    "fr": "Total|Livraison|Remise|Taxe|dont taxe|emballé|en route|en livraison|livré|prévu"
    "|Vous recevez ce message parce que vous avez commandé chez nous.|Choisir mes notifications",
    "he": "סה״כ|משלוח|הנחה|מס|מתוכם מס|נארזה|בדרך|יצאה לחלוקה|נמסרה|צפויה"
    "|ההודעה נשלחה אליכם כי הזמנתם אצלנו.|בחירת ההודעות",
    "hr": "Ukupno|Dostava|Popust|Porez|od toga porez|zapakirano|na putu|u dostavi|dostavljeno|očekuje se"
    "|Ovu poruku primate jer ste naručili kod nas.|Odaberite obavijesti",
    "hu": "Összesen|Szállítás|Kedvezmény|Adó|ebből adó|becsomagolva|úton|kézbesítés alatt|kézbesítve|várható"
    "|Azért kapja ezt, mert rendelt nálunk.|Értesítések kiválasztása",
    "it": "Totale|Spedizione|Sconto|Imposta|di cui imposta|imballato|in viaggio|in consegna|consegnato|previsto"
    "|Ricevi questo messaggio perché hai fatto un ordine.|Scegli quali avvisi ricevere",
    "ja": "合計|送料|割引|税|内税|梱包済み|配送中|配達中|配達済み|お届け予定"
    "|ご注文いただいたお客様にお送りしています。|受け取る通知を選ぶ",
    "ko": "합계|배송비|할인|세금|세금 포함|포장 완료|배송 중|배달 중|배달 완료|도착 예정"
    "|저희 매장에서 주문하셨기 때문에 보내 드립니다.|받을 알림 선택",
    "nb": "Totalt|Frakt|Rabatt|Avgift|herav avgift|pakket|på vei|under utkjøring|levert|forventet"
    "|Du får dette fordi du har bestilt hos oss.|Velg hvilke meldinger du får",
    "nl": "Totaal|Verzending|Korting|Btw|waarvan btw|ingepakt|onderweg|wordt bezorgd|bezorgd|verwacht"
    "|Je krijgt dit bericht omdat je bij ons hebt besteld.|Kies welke berichten je krijgt",
    "pl": "Razem|Wysyłka|Rabat|Podatek|w tym podatek|spakowano|w drodze|w doręczeniu|doręczono|przewidywana dostawa"
    "|Otrzymujesz tę wiadomość, ponieważ złożono u nas zamówienie.|Wybierz powiadomienia",
    "pt": "Total|Envio|Desconto|Imposto|do qual imposto|embalado|a caminho|em entrega|entregue|previsto"
    "|Recebe esta mensagem porque fez uma encomenda.|Escolher os avisos que recebo",
    "ro": "Total|Livrare|Reducere|Taxă|din care taxă|ambalat|pe drum|în curs de livrare|livrat|estimat"
    "|Primiți acest mesaj pentru că ați comandat la noi.|Alegeți ce notificări primiți",
    "ru": "Итого|Доставка|Скидка|Налог|в том числе налог|упакован|в пути|передан курьеру|доставлен|ожидается"
    "|Вы получили это письмо, потому что сделали у нас заказ.|Выбрать уведомления",
    "sk": "Spolu|Doprava|Zľava|Daň|z toho daň|zabalené|na ceste|doručuje sa|doručené|očakávané"
    "|Túto správu dostávate, pretože ste u nás objednali.|Vybrať oznámenia",
    "sl": "Skupaj|Dostava|Popust|Davek|od tega davek|zapakirano|na poti|v dostavi|dostavljeno|predvideno"
    "|To sporočilo ste prejeli, ker ste naročili pri nas.|Izberite obvestila",
    "sv": "Totalt|Frakt|Rabatt|Moms|varav moms|packat|på väg|ute för leverans|levererat|beräknat"
    "|Du får detta eftersom du har beställt hos oss.|Välj vilka meddelanden du får",
    "tr": "Toplam|Kargo|İndirim|Vergi|vergi dahil|paketlendi|yolda|dağıtımda|teslim edildi|tahmini"
    "|Bu iletiyi bizden sipariş verdiğiniz için alıyorsunuz.|Bildirimleri seçin",
    "uk": "Разом|Доставка|Знижка|Податок|у тому числі податок|запаковано|у дорозі|передано кур’єру|доставлено"
    "|очікується|Ви отримали це, бо зробили в нас замовлення.|Вибрати сповіщення",
    "zh": "合计|运费|优惠|税费|含税|已打包|运输中|派送中|已送达|预计"
    "|您收到此消息是因为您在我们这里下过订单。|选择接收的通知",
}
WORDS: dict[str, dict[str, str]] = {
    "en": NAMES,
    **{language: dict(zip(NAMES, words.split("|"), strict=True)) for language, words in _OTHER.items()},
    "no": dict(zip(NAMES, _OTHER["nb"].split("|"), strict=True)),
}
"""By language, then by name."""


def words_in(locale: str, own: OwnWords | None = None) -> Callable[[str], str]:
    """The words of a language by name: the shop's own (of this locale, then of its language), ours, or in English."""
    language = locale.partition("-")[0]
    of_shop = own or {}
    layers = (of_shop.get(locale, {}), of_shop.get(language, {}), WORDS.get(language, {}), NAMES)
    return lambda name: next(layer[name] for layer in layers if layer.get(name))
