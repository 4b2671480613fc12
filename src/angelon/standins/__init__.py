"""Simulated outside parties that ship with the product. They speak the real protocols, and reach the rest only over
HTTP and SMTP.
"""

from pathlib import Path

ZONE = Path(__file__).with_name("domains.zone")
"""What the stand-in of a resolver knows of domains."""
