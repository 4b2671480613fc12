"""The tables, a file a subject. Who names one imports it from here."""

# ruff: noqa: F403 - all of it is named here

from angelon.db.tables.access import *
from angelon.db.tables.columns import *
from angelon.db.tables.conditions import *
from angelon.db.tables.derived import *
from angelon.db.tables.documents import *
from angelon.db.tables.log import *
from angelon.db.tables.parcels import *
from angelon.db.tables.people import *
from angelon.db.tables.setup import *
from angelon.db.tables.upkeep import *
