"""Whoever knows whether a business's tax number is in use: asked by address, with a fault on demand. It knows every
number in the right form, but for those that end with 000.
"""

from __future__ import annotations

import hashlib
from typing import Any

from flask import Blueprint, jsonify

from angelon.standins import account
from angelon.standins.account import box

api = Blueprint("tax", __name__, url_prefix="/tax")
NAMES = ("Harbour Provisions", "Tern & Daughters", "Saltmarsh Supplies", "Ropewalk Goods")


@api.get("/<country>/<number>")
def look(country: str, number: str) -> Any:
    kept = box()
    account.entered(kept, "tax")
    mark = hashlib.sha256(f"{country}{number}".encode()).hexdigest()
    known = not number.endswith("000")
    answer = {"valid": known, "reference": mark[:10].upper()}
    if known:
        answer["name"] = NAMES[int(mark[:4], 16) % len(NAMES)]
    account.left(kept, "tax")
    return jsonify(answer)
