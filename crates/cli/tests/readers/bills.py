"""Reads bills of materials with the libraries of the formats' own communities, and prints what they say as JSON.

Arguments: a file in CycloneDX, one in SPDX 2.3, one in SPDX 3.0.1, and one with package URLs.
"""

import json
import sys

from cyclonedx.model.bom import Bom
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from packageurl import PackageURL
from spdx_python_model import v3_0_1 as spdx3
from spdx_tools.spdx.model import RelationshipType
from spdx_tools.spdx.parser.parse_anything import parse_file
from spdx_tools.spdx.validation.document_validator import validate_full_spdx_document


def without_version(label):
    return label.split("@")[0].removeprefix("project:")


def read_cyclonedx(path):
    text = open(path, encoding="utf-8").read()
    error = JsonStrictValidator(SchemaVersion.V1_6).validate_str(text)
    bom = Bom.from_json(json.loads(text))
    bom.validate()
    edges = [
        [without_version(one.ref.value), without_version(other.ref.value)]
        for one in bom.dependencies
        for other in one.dependencies
        if one.ref.value != "product"
    ]
    purls = [str(one.purl) for one in bom.components if one.purl]
    return {"errors": [str(error)] if error else [], "edges": edges, "purls": purls}


def read_spdx2(path):
    document = parse_file(path)
    errors = [message.validation_message for message in validate_full_spdx_document(document)]
    names = {package.spdx_id: package.name for package in document.packages}
    edges = []
    for one in document.relationships:
        pair = [names.get(one.spdx_element_id), names.get(one.related_spdx_element_id)]
        if one.relationship_type == RelationshipType.DEPENDS_ON:
            edges.append(pair)
        elif one.relationship_type.name.endswith("_DEPENDENCY_OF"):
            edges.append(pair[::-1])
    purls = [
        reference.locator
        for package in document.packages
        for reference in package.external_references
        if reference.reference_type == "purl" and not reference.comment
    ]
    return {"errors": errors, "edges": edges, "purls": purls}


def read_spdx3(path):
    elements = spdx3.SHACLObjectSet()
    with open(path, "rb") as file:
        # Fails for a class, a property or a value that the model's SHACL shapes don't allow.
        spdx3.JSONLDDeserializer().read(file, elements)
    errors = sorted(f"nothing is called {name}" for name in elements.missing_ids)
    edges = [
        [one.from_.name, other.name]
        for one in elements.foreach_type(spdx3.LifecycleScopedRelationship)
        for other in one.to
    ]
    packages = elements.foreach_type(spdx3.software_Package)
    purls = [package.software_packageUrl for package in packages if package.software_packageUrl]
    return {"errors": errors, "edges": edges, "purls": purls}


def read_purls(path):
    lines = open(path, encoding="utf-8").read().splitlines()
    read = [PackageURL.from_string(line) for line in lines]
    return {"errors": [], "edges": [], "purls": lines, "names": [[one.namespace, one.name, one.version] for one in read]}


cyclonedx, spdx2, spdx3_file, purls = sys.argv[1:]
print(
    json.dumps(
        {
            "cyclonedx": read_cyclonedx(cyclonedx),
            "spdx2": read_spdx2(spdx2),
            "spdx3": read_spdx3(spdx3_file),
            "purls": read_purls(purls),
        }
    )
)
