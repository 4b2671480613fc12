"""Simulated outside parties that ship with the product. They speak the real protocols, and reach the rest only over
HTTP and SMTP.
"""
