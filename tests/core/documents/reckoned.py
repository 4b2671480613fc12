"""The arithmetic of an invoice a second time, by itself: with decimals in place of whole units and fractions, by
running totals in place of remainders where that comes to the same, from the text of a case alone.
"""

from decimal import ROUND_DOWN, ROUND_HALF_UP, Decimal, getcontext

getcontext().prec = 60


def cut(amount, digits):
    return amount.quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)


def share(amount, weights, digits):
    """An amount over weights: each rounded down, one unit more for those that lost most, the earlier first."""
    whole, unit = sum(weights), Decimal(1).scaleb(-digits)
    if not whole:
        return [amount] + [Decimal(0)] * (len(weights) - 1)
    exact = [amount * weight / whole for weight in weights]
    down = [one.quantize(unit, ROUND_DOWN) for one in exact]
    missing = int((amount - sum(down)) / unit)
    lost = sorted(range(len(weights)), key=lambda n: (down[n] - exact[n], n))
    for n in lost[:missing]:
        down[n] += unit
    return down


def reckon(lines, postage, discount, prices, rounding, digits, own_postage=None):
    """(net, tax) of `lines`, each (quantity, price, rate), as a whole; None for what is left out."""
    amounts = [(rate, cut(quantity * price, digits)) for quantity, price, rate in lines]
    rates = sorted({rate for rate, _ in amounts}, reverse=True)
    goods = {rate: sum(amount for one, amount in amounts if one == rate) for rate in rates}
    pieces = list(amounts)
    if postage:
        if own_postage is not None:
            pieces.append((own_postage, postage))
        else:
            pieces += zip(rates, share(postage, [goods[rate] for rate in rates], digits), strict=True)
    if discount:
        off = min(discount, sum(goods.values()))
        pieces += [(rate, -one) for rate, one in zip(rates, share(off, [goods[r] for r in rates], digits), strict=True)]
        rest = discount - off
        if rest:
            posted = {rate: sum(a for r, a in pieces[len(amounts) :] if r == rate and a > 0) for rate in rates}
            pieces += [(r, -one) for r, one in zip(rates, share(rest, [posted[r] for r in rates], digits), strict=True)]
            if rounding == "line":  # what is off one rate is printed as one amount
                merged = {}
                kept = pieces[: len(amounts)] + [p for p in pieces[len(amounts) :] if p[1] > 0]
                for rate, amount in pieces[len(amounts) :]:
                    if amount < 0:
                        merged.setdefault(rate, []).append(amount)
                net = tax = Decimal(0)
                for rate, amount in kept:
                    n, t = taxed(rate, amount, prices, digits)
                    net, tax = net + n, tax + t
                for rate, all_off in merged.items():
                    for amount in all_off:
                        n, t = taxed(rate, amount, prices, digits)
                        net, tax = net + n, tax + t
                return net, tax
    if rounding == "line":
        made = [taxed(rate, amount, prices, digits) for rate, amount in pieces]
        return sum(n for n, _ in made), sum(t for _, t in made)
    net = tax = Decimal(0)
    for rate in {rate for rate, _ in pieces}:
        whole = sum(amount for one, amount in pieces if one == rate)
        inside = whole * rate / (100 + rate) if prices == "gross" else whole * rate / 100
        t = cut(inside, digits)
        net, tax = net + (whole - t if prices == "gross" else whole), tax + t
    return net, tax


def taxed(rate, amount, prices, digits):
    if prices == "gross":
        net = cut(amount * 100 / (100 + rate), digits)
        return net, amount - net
    return amount, cut(amount * rate / 100, digits)
