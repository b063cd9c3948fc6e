"""How right merging is on files that nobody of this project made: data files of packages in two releases.

    python benchmarks/real_files.py [--kept-back] [--only WORDS] [--class NAME] [--seed N] [--cache DIR] [--show]

Releases come from the Python and npm registries (once; they are kept in --cache). To the older one a year of an admin's
edits is made (hand_edits.py), and the true result and the true questions are found by other means (reference.py). The table
counts, beside ``git merge-file`` and ``diff3 -m``: cases, exactly right ones, wrong content, questions too many, questions
missed, and the admin's lines that were altered. --kept-back takes the pairs that were not looked at while the merge was made.
"""

from __future__ import annotations

import argparse
import difflib
import io
import json
import random
import re
import subprocess
import sys
import tarfile
import tempfile
import time
import urllib.request
import zipfile
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

import reference
from hand_edits import CLASSES, Draft
from reference import Asked

from emberkeep.merging.merge import merge_file
from emberkeep.merging.results import ORDER, FileMerge, Question


@dataclass(frozen=True)
class Pair:
    """A file of a package in two releases. ``keys``: how records are told apart, found by looking at the file."""

    package: str
    old: str
    new: str
    path: str
    form: str
    keys: dict[str, str] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return f"{self.package}/{self.path.rsplit('/', 1)[-1]}"


_LENSES = {
    "lensdatabase/mount": "name",
    "camera": "maker model variant",
    "lens": "maker model",
    "distortion": "@model @focal",
    "tca": "@model @focal",
    "vignetting": "@model @focal @aperture @distance",
    "maker": "@lang",
    "model": "@lang",
    "name": "@lang",
    "variant": "@lang",
    "compat": ".",
    "mount": ".",
    # the same lens, its name put right
    "renamed:Canon PowerShot A80 & compatibles, with Tiffen 0.56x converter": (
        "Canon PowerShot A80 & compatibles, with Tiffen .56x converter"
    ),
}
_MESSAGES = {"enum": "@name", "entry": "@name", "message": "@id", "field": "@name", "param": "@index", "include": "."}
_REGISTRY = {
    "types/type": "@name name @api",
    "enums": "@namespace @start @group @vendor @end",
    "enum": "@name @api",
    "commands/command": "proto/. proto/name",
    "command": "@name",
    "require/type": "@name",
    "feature": "@name",
    "extension": "@name",
    "param": ".",
    "alias": "@name",
    "group": "@name",
    "unused": "@start",
}
_ITEMS = {"DataItem": "@id", "BitsValue": "@val", "Bits": "@from @to @bit", "UAPItem": "@bit", "UAP": "@use"}
_COUNTRIES = {"$/[]": "cca3"}

_RECORDS = {"record": "@model @id", "field": "@name", "menuitem": "@id", "data": "@noupdate"}
_PROFILE = {
    "configlet": "@action_id",
    "permission": ".",
    "object": "@name",
    "property": "@name",
    "element": "@value",
    "alias": "@from",
    "action": "@action_id",
    "action-provider": "@name",
}
_NAMED = {"types/[]": "name", "enumerations/[]": "name", "properties/[]": "name", "literalValues/[]": "name"}
_BUILDS = {"python_configurations/[]": "identifier"}

PAIRS: tuple[Pair, ...] = (
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/slr-pentax.xml", "xml", _LENSES),
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/compact-canon.xml", "xml", _LENSES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/common.xml", "xml", _MESSAGES),
    Pair("glad2", "2.0.0", "2.0.8", "glad/files/egl.xml", "xml", _REGISTRY),
    Pair("glad2", "2.0.0", "2.0.8", "glad/files/gl.xml", "xml", _REGISTRY),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat205_1_0.xml", "xml", _ITEMS),
    Pair("world-countries", "4.0.0", "5.0.0", "dist/countries.xml", "xml", {"country": "@cca3"}),
    Pair("world-countries", "4.0.0", "5.0.0", "countries.json", "json", _COUNTRIES),
    Pair("emoji-datasource", "14.0.0", "15.1.2", "emoji.json", "json", {"$/[]": "unified"}),
    Pair("emoji-datasource", "14.0.0", "15.1.2", "categories.json", "json"),
    Pair(
        "simple-icons", "11.0.0", "13.0.0", "_data/simple-icons.json", "json", {"icons/[]": "title", "dup/[]": "title"}
    ),
    Pair("spdx-license-list", "6.4.0", "6.9.0", "spdx.json", "json"),
    Pair("mime-db", "1.48.0", "1.54.0", "db.json", "json"),
    Pair("material-icon-theme", "5.10.0", "5.30.0", "dist/material-icons.json", "json"),
    Pair(
        "@zwave-js/config",
        "12.12.0",
        "14.3.3",
        "config/devices/0x027a/zen32.json",
        "json",
        {"devices/[]": "productType productId", "paramInformation/[]": "# $if", "options/[]": "value label"},
    ),
    Pair("uap-core", "0.12.0", "0.18.0", "regexes.yaml", "yaml", {"[]": "regex"}),
    Pair("ansible-core", "2.16.0", "2.18.0", "ansible/config/base.yml", "yaml", {"[]": "name key section"}),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/US.yaml", "yaml"),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/names.yaml", "yaml"),
    Pair("world-countries", "4.0.0", "5.0.0", "dist/countries.yml", "yaml", _COUNTRIES),
    Pair("python-openstackclient", "6.0.0", "7.0.0", "setup.cfg", "ini"),
    Pair("supervisor", "3.3.5", "4.2.5", "supervisor/skel/sample.conf", "ini"),
    Pair("mercurial", "6.2", "6.9", "mercurial/defaultrc/mergetools.rc", "ini"),
    Pair("ng2-pdfjs-viewer", "3.2.0", "6.0.2", "pdfjs/web/locale/de/viewer.properties", "properties"),
    Pair("ng2-pdfjs-viewer", "3.2.0", "6.0.2", "pdfjs/web/locale/fr/viewer.properties", "properties"),
    Pair("pydantic_core", "2.20.0", "2.27.0", "Cargo.lock", "toml", {"package/[]": "name"}),
    Pair("cryptography", "42.0.0", "44.0.0", "pyproject.toml", "toml", {}),
    Pair("pylint", "2.17.0", "3.2.0", "pyproject.toml", "toml", {}),
)
# The first that were kept back: looked at since, as two of them showed faults.
PAIRS += (
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/mil-olympus.xml", "xml", _LENSES),
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/slr-sigma.xml", "xml", _LENSES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/ardupilotmega.xml", "xml", _MESSAGES),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat062_1_18.xml", "xml", _ITEMS),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "codes.json", "json", {"$/[]": "[]"}),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "langs/de.json", "json"),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/CH.yaml", "yaml"),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/DE.yaml", "yaml"),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/client/browsers.yml", "yaml", {"[]": "name"}),
    Pair("ansible-core", "2.16.0", "2.18.0", "ansible/config/ansible_builtin_runtime.yml", "yaml"),
    Pair("ng2-pdfjs-viewer", "3.2.0", "6.0.2", "pdfjs/web/locale/it/viewer.properties", "properties"),
    Pair("ng2-pdfjs-viewer", "3.2.0", "6.0.2", "pdfjs/web/locale/pl/viewer.properties", "properties"),
    Pair("pylint", "2.17.0", "3.2.0", "setup.cfg", "ini"),
    Pair("mercurial", "6.2", "6.9", "rust/Cargo.lock", "toml", {"package/[]": "name"}),
    Pair("pydantic_core", "2.20.0", "2.27.0", "pyproject.toml", "toml"),
)
_DEVICE = {"devices/[]": "productType productId", "paramInformation/[]": "# $if", "options/[]": "value label"}
# The second.
PAIRS += (
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/slr-sony.xml", "xml", _LENSES),
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/compact-panasonic.xml", "xml", _LENSES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/storm32.xml", "xml", _MESSAGES),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat252_7_0.xml", "xml", _ITEMS),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "langs/fr.json", "json"),
    Pair("@zwave-js/config", "12.12.0", "14.3.3", "config/devices/0x0371/zwa024.json", "json", _DEVICE),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/client/mobile_apps.yml", "yaml", {"[]": "name"}),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/bots.yml", "yaml", {"[]": "name"}),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/GB.yaml", "yaml"),
    Pair("python-openstackclient", "6.0.0", "7.0.0", "tox.ini", "ini"),
    Pair("supervisor", "3.3.5", "4.2.5", "tox.ini", "ini"),
    Pair("pydantic_core", "2.20.0", "2.27.0", "Cargo.toml", "toml"),
    Pair("cryptography", "42.0.0", "44.0.0", "src/rust/Cargo.toml", "toml"),
)
# The third.
PAIRS += (
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/mil-sony.xml", "xml", _LENSES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/minimal.xml", "xml", _MESSAGES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/uAvionix.xml", "xml", _MESSAGES),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat011_1_2.xml", "xml", _ITEMS),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat030_6_2.xml", "xml", _ITEMS),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "langs/it.json", "json"),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "langs/es.json", "json"),
    Pair("@zwave-js/config", "12.12.0", "14.3.3", "config/devices/0x014a/tstat-tbz500.json", "json", _DEVICE),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/client/libraries.yml", "yaml", {"[]": "name"}),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/client/feed_readers.yml", "yaml", {"[]": "name"}),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/AU.yaml", "yaml"),
    Pair("keystoneauth1", "4.0.0", "5.0.0", "setup.cfg", "ini"),
    Pair("oslo.messaging", "12.0.0", "14.0.0", "setup.cfg", "ini"),
    Pair("mercurial", "6.2", "6.9", "rust/hg-core/Cargo.toml", "toml"),
    Pair("httpx", "0.24.0", "0.27.0", "pyproject.toml", "toml"),
)


# The fourth.
PAIRS += (
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/mil-fujifilm.xml", "xml", _LENSES),
    Pair("lensfunpy", "1.11.1", "1.18.0", "lensfunpy/db_files/slr-tamron.xml", "xml", _LENSES),
    Pair("pymavlink", "2.4.20", "2.4.41", "message_definitions/v1.0/AVSSUAS.xml", "xml", _MESSAGES),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat010_1_1.xml", "xml", _ITEMS),
    Pair("glad2", "2.0.0", "2.0.8", "glad/files/glx.xml", "xml", _REGISTRY),
    Pair("@iconify-json/mdi", "1.1.50", "1.2.3", "metadata.json", "json"),
    Pair("i18n-iso-countries", "7.0.0", "7.11.0", "langs/en.json", "json"),
    Pair("@zwave-js/config", "12.12.0", "14.3.3", "config/devices/0x027a/zen30.json", "json", _DEVICE),
    Pair(
        "@zwave-js/config", "12.12.0", "14.3.3", "config/devices/0x027a/templates/zooz_template.json", "json", _DEVICE
    ),
    Pair("device_detector", "5.0.1", "6.2.0", "regexes/upstream/client/mediaplayers.yml", "yaml", {"[]": "name"}),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/NZ.yaml", "yaml"),
    Pair("date-holidays", "3.16.0", "3.23.0", "data/countries/NO.yaml", "yaml"),
    Pair("mercurial", "6.2", "6.9", "contrib/heptapod-ci.yml", "yaml"),
    Pair("mercurial", "6.2", "6.9", "contrib/merge-lists/Cargo.lock", "toml", {"package/[]": "name"}),
    Pair("ng2-pdfjs-viewer", "3.2.0", "6.0.2", "pdfjs/web/locale/nl/viewer.properties", "properties"),
    Pair(
        "ansible-core",
        "2.16.0",
        "2.18.0",
        "ansible_test/_util/controller/sanity/pylint/config/collection.cfg",
        "ini",
    ),
)
_FIX = {"message": "@name", "field": "@name", "group": "@name", "component": "@name", "value": "@enum"}
_TERMS = {"term": "@name @form @gender-form @match", "date": "@form", "date-part": "@name"}
_PLUGIN = {
    "platform": "@name",
    "uses-permission": "@android:name",
    "config-file": "@target @parent",
    "js-module": "@src",
    "source-file": "@src",
    "header-file": "@src",
    "framework": "@src",
    "param": "@name",
    "engine": "@name",
    "clobbers": "@target",
    "merges": "@target",
    "preference": "@name",
    "hook": "@src",
    "feature": "@name",
    "edit-config": "@target @file @mode",
}
# The fifth.
PAIRS += (
    Pair("quickfix", "1.15.1", "1.16.0", "spec/FIX43.xml", "xml", _FIX),
    Pair("quickfix", "1.15.1", "1.16.0", "spec/FIX41.xml", "xml", _FIX),
    Pair("quickfix", "1.15.1", "1.16.0", "spec/FIXT11.xml", "xml", _FIX),
    Pair("pycountry", "20.7.3", "24.6.1", "src/pycountry/databases/iso3166-1.json", "json", {"3166-1/[]": "alpha_3"}),
    Pair("pycountry", "20.7.3", "24.6.1", "src/pycountry/databases/iso4217.json", "json", {"4217/[]": "alpha_3"}),
    Pair("mdn-data", "2.0.30", "2.12.0", "css/syntaxes.json", "json"),
    Pair("mdn-data", "2.0.30", "2.12.0", "css/at-rules.json", "json"),
    Pair("mdn-data", "2.0.30", "2.12.0", "l10n/css.json", "json"),
    Pair("node-releases", "2.0.3", "2.0.20", "data/processed/envs.json", "json", {"$/[]": "name version"}),
    Pair("is-core-module", "2.8.0", "2.15.0", "core.json", "json"),
    Pair("cldr-numbers-full", "40.0.0", "44.0.0", "main/cs/currencies.json", "json"),
    Pair("distributed", "2022.2.0", "2024.8.0", "distributed/distributed.yaml", "yaml"),
    Pair("distributed", "2022.2.0", "2024.8.0", "distributed/distributed-schema.yaml", "yaml"),
    Pair("dask", "2022.2.0", "2024.8.0", "dask/dask-schema.yaml", "yaml"),
    Pair("apache-airflow", "2.3.0", "2.5.0", "airflow/config_templates/config.yml", "yaml", {"[]": "name"}),
    Pair("ansible-lint", "6.0.0", "24.2.0", ".pre-commit-config.yaml", "yaml", {"repos/[]": "repo", "hooks/[]": "id"}),
    Pair("apache-airflow", "2.3.0", "2.5.0", "airflow/config_templates/default_airflow.cfg", "ini"),
    Pair("apache-airflow", "2.3.0", "2.5.0", "airflow/config_templates/default_test.cfg", "ini"),
    Pair("molecule", "4.0.0", "24.2.0", "tox.ini", "ini"),
    Pair("apache-airflow-providers-google", "8.0.0", "9.0.0", "setup.cfg", "ini"),
    Pair("maturin", "1.2.0", "1.7.0", "Cargo.lock", "toml", {"package/[]": "name"}),
    Pair("maturin", "1.2.0", "1.7.0", "Cargo.toml", "toml"),
)
# The sixth.
PAIRS += (
    Pair("citeproc-py", "0.5.1", "0.8.2", "citeproc/data/locales/locales-de-AT.xml", "xml", _TERMS),
    Pair("citeproc-py", "0.5.1", "0.8.2", "citeproc/data/locales/locales-en-US.xml", "xml", _TERMS),
    Pair("citeproc-py", "0.5.1", "0.8.2", "citeproc/data/locales/locales-bg-BG.xml", "xml", _TERMS),
    Pair("cordova-plugin-camera", "4.0.0", "7.0.0", "plugin.xml", "xml", _PLUGIN),
    Pair(
        "language-subtag-registry", "0.3.20", "0.3.23", "data/json/registry.json", "json", {"$/[]": "Type Subtag Tag"}
    ),
    Pair("language-subtag-registry", "0.3.20", "0.3.23", "data/json/script.json", "json"),
    Pair("typescript", "4.5.2", "5.3.3", "lib/de/diagnosticMessages.generated.json", "json"),
    Pair("pymatgen", "2022.0.10", "2024.3.1", "pymatgen/core/periodic_table.json", "json"),
    Pair("satpy", "0.30.0", "0.48.0", "satpy/etc/areas.yaml", "yaml"),
    Pair("swift", "2.25.0", "2.33.0", "bandit.yaml", "yaml"),
    Pair("swift", "2.25.0", "2.33.0", "api-ref/source/parameters.yaml", "yaml"),
    Pair("swift", "2.25.0", "2.33.0", "test/sample.conf", "ini"),
    Pair("swift", "2.25.0", "2.33.0", "doc/saio/swift/proxy-server.conf", "ini"),
    Pair("swift", "2.25.0", "2.33.0", "tox.ini", "ini"),
    Pair("swift", "2.25.0", "2.33.0", "setup.cfg", "ini"),
    Pair("@openui5/sap.m", "1.90.0", "1.120.0", "src/sap/m/messagebundle_de.properties", "properties"),
    Pair("black", "22.12.0", "24.4.0", "pyproject.toml", "toml"),
    Pair("cordova-plugin-file", "6.0.0", "8.0.0", "plugin.xml", "xml", _PLUGIN),
    Pair("cordova-plugin-inappbrowser", "4.0.0", "6.0.0", "plugin.xml", "xml", _PLUGIN),
    Pair("quickfix", "1.15.1", "1.16.0", "spec/FIX50.xml", "xml", _FIX),
    Pair("asterix_decoder", "0.6.1", "0.7.11", "asterix/config/asterix_cat063_1_3.xml", "xml", _ITEMS),
    Pair("citeproc-py", "0.5.1", "0.8.2", "citeproc/data/locales/locales-uk-UA.xml", "xml", _TERMS),
    Pair("bootstrap-icons", "1.5.0", "1.11.0", "font/bootstrap-icons.json", "json"),
    Pair("emojibase-data", "6.0.0", "15.0.0", "de/data.json", "json", {"$/[]": "hexcode", "skins/[]": "hexcode"}),
    Pair("cinder", "17.0.0", "22.0.0", "api-ref/source/v3/parameters.yaml", "yaml"),
    Pair("jupyter-server", "1.10.0", "2.10.0", "jupyter_server/services/api/api.yaml", "yaml"),
    Pair("rasa", "2.8.0", "3.6.0", "rasa/shared/utils/schemas/domain.yml", "yaml"),
    Pair("cinder", "17.0.0", "22.0.0", "doc/source/reference/support-matrix.ini", "ini"),
    Pair("cinder", "17.0.0", "22.0.0", "etc/cinder/api-paste.ini", "ini"),
    Pair("neutron", "17.0.0", "22.0.0", "doc/source/feature_classification/general_feature_support_matrix.ini", "ini"),
    Pair("neutron", "17.0.0", "22.0.0", "setup.cfg", "ini"),
    Pair("neutron", "17.0.0", "22.0.0", "etc/api-paste.ini", "ini"),
    Pair("sqlfluff", "0.9.0", "2.3.0", "src/sqlfluff/core/default_config.cfg", "ini"),
    Pair("rasa", "2.8.0", "3.6.0", "pyproject.toml", "toml"),
)
KEPT_BACK = (
    Pair("trytond_account", "6.0.0", "7.0.0", "account.xml", "xml", _RECORDS),
    Pair("trytond_account", "6.0.0", "7.0.0", "tax.xml", "xml", _RECORDS),
    Pair("trytond_party", "6.0.0", "7.0.0", "address.xml", "xml", _RECORDS),
    Pair("Products.CMFPlone", "5.2.0", "6.0.0", "profiles/default/actions.xml", "xml", _PROFILE),
    Pair("Products.CMFPlone", "5.2.0", "6.0.0", "profiles/default/controlpanel.xml", "xml", _PROFILE),
    Pair("plone.app.contenttypes", "2.2.0", "3.0.0", "profiles/default/types/Document.xml", "xml", _PROFILE),
    Pair("prismjs", "1.23.0", "1.29.0", "components.json", "json"),
    Pair("lucide-static", "0.200.0", "0.300.0", "tags.json", "json"),
    Pair("bpmn-moddle", "7.0.0", "8.0.0", "resources/bpmn/json/bpmn.json", "json", _NAMED),
    Pair("@vscode/codicons", "0.0.30", "0.0.35", "src/template/mapping.json", "json"),
    Pair("xclim", "0.36.0", "0.45.0", "xclim/data/fr.json", "json"),
    Pair("xclim", "0.36.0", "0.45.0", "xclim/data/cf.yml", "yaml", {"cf_attrs/[]": "var_name"}),
    Pair("xclim", "0.36.0", "0.45.0", "xclim/data/variables.yml", "yaml"),
    Pair("grayskull", "1.8.0", "2.5.0", "grayskull/strategy/config.yaml", "yaml"),
    Pair("openfisca-france", "116.0.0", "150.0.0", "salaire_minimum/smic/smic_b_horaire.yaml", "yaml"),
    Pair("ironic", "17.0.0", "21.0.0", "api-ref/source/parameters.yaml", "yaml"),
    Pair("mailman", "3.3.3", "3.3.9", "src/mailman/config/schema.cfg", "ini"),
    Pair("ironic", "17.0.0", "21.0.0", "setup.cfg", "ini"),
    Pair("ironic", "17.0.0", "21.0.0", "tox.ini", "ini"),
    Pair("pytest", "7.0.0", "8.0.0", "tox.ini", "ini"),
    Pair("napari", "0.4.15", "0.4.19", "setup.cfg", "ini"),
    Pair("cibuildwheel", "2.8.0", "2.16.0", "cibuildwheel/resources/build-platforms.toml", "toml", _BUILDS),
    Pair("orjson", "3.8.0", "3.10.0", "Cargo.lock", "toml", {"package/[]": "name"}),
    Pair("orjson", "3.8.0", "3.10.0", "Cargo.toml", "toml"),
    Pair("pdm", "2.5.0", "2.12.0", "pyproject.toml", "toml"),
)


# --- releases -----------------------------------------------------------------


def release(pair: Pair, version: str, cache: Path) -> bytes:
    """A pair's file of one version."""
    room = cache / f"{pair.package.replace('/', '__')}-{version}"
    if not room.exists():
        data = _fetched(pair.package, version)
        partly = room.with_name(room.name + ".part")
        _unpack(data, partly)
        partly.rename(room)
    found = [path for path in room.rglob(Path(pair.path).name) if path.as_posix().endswith("/" + pair.path)]
    if not found:
        raise SystemExit(f"{pair.package} {version} has no {pair.path}")
    return min(found, key=lambda path: len(path.parts)).read_bytes()


def _get(url: str, accept: str = "*/*") -> bytes:
    with urllib.request.urlopen(urllib.request.Request(url, headers={"Accept": accept}), timeout=120) as answer:
        return bytes(answer.read())


def _fetched(package: str, version: str) -> bytes:
    """The archive of a release: a source archive or a wheel of PyPI's, else npm's."""
    try:
        index = json.loads(_get(f"https://pypi.org/simple/{package}/", "application/vnd.pypi.simple.v1+json"))
    except OSError:
        index = {"files": []}
    ends = (f"-{version}.tar.gz", f"-{version}.zip")
    files = [file for file in index["files"] if file["filename"].endswith(ends)]
    files += [file for file in index["files"] if f"-{version}-" in file["filename"]]
    if files:
        wheels = [file for file in files if file["filename"].endswith(".whl")]
        return _get((wheels or files if package in ("lensfunpy", "glad2", "ansible-core") else files)[0]["url"])
    name = package.rsplit("/", 1)[-1]
    return _get(f"https://registry.npmjs.org/{package}/-/{name}-{version}.tgz")


def _unpack(data: bytes, room: Path) -> None:
    room.mkdir(parents=True)
    if data[:2] == b"PK":
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            archive.extractall(room)
    else:
        with tarfile.open(fileobj=io.BytesIO(data)) as archive:
            archive.extractall(room, filter="data")


# --- judging ------------------------------------------------------------------


@dataclass
class Verdict:
    """What is not as it should be with one merge."""

    wrong: list[str] = field(default_factory=list)
    false: list[str] = field(default_factory=list)
    missed: list[str] = field(default_factory=list)
    altered: list[str] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)

    @property
    def right(self) -> bool:
        return not (self.wrong or self.false or self.missed or self.altered or self.faults)


@dataclass(frozen=True)
class Case:
    """Three sides and what is true of them."""

    pair: Pair
    kind: str
    old: str
    mine: str
    new: str
    truth: reference.Truth

    def bytes(self) -> tuple[bytes, bytes, bytes]:
        return self.old.encode(), self.mine.encode(), self.new.encode()


def case_of(pair: Pair, kind: str, old: str, new: str, seed: int) -> Case | None:
    """A case, None where this kind of edit changes nothing here."""
    mine = CLASSES[kind](Draft(old, new, pair.form, pair.keys, random.Random(f"{seed} {pair.name} {kind}")))
    if mine == old:
        return None
    try:
        facts = [reference.read(text, pair.form) for text in (old, mine, new)]
    except reference.yaml.composer.ComposerError:  # the edit took away what an alias needs
        return None
    return Case(pair, kind, old, mine, new, reference.true_merge(*facts, pair.keys))


def judged(case: Case, text: str, asked: Sequence[Question] | None) -> Verdict:
    """A merge's text, and its questions where it asks such, against the truth."""
    found = Verdict()
    try:
        facts = reference.read(text, case.pair.form)
    except Exception as error:  # whatever a parser says to it
        found.wrong.append(f"no longer {case.pair.form}: {error}")
        return found
    if case.pair.form == "toml":  # a table without entries may be there without being written
        for top in (case.truth.result, facts):
            reference.without_empty(top)
    found.wrong = reference.differences(case.truth.result, facts, case.pair.keys)
    found.altered = altered(case, text)
    if asked is not None:
        wanted = Counter(_shown(case, question) for question in case.truth.questions)
        wanted += Counter([("order",)] * len(case.truth.reordered))
        got = Counter(_told(case, question) for question in asked)
        found.false = [repr(what)[:200] for what in (got - wanted).elements()]
        found.missed = [repr(what)[:200] for what in (wanted - got).elements()]
    return found


def _shown(case: Case, asked: Asked) -> tuple[object, ...]:
    sides = (asked.old, asked.mine, asked.new)
    if "…" in sides:
        return tuple(None if side is None else "…" for side in sides)
    return tuple(None if side is None else _said(case, side) for side in sides)


def _told(case: Case, question: Question) -> tuple[object, ...]:
    if question.field == ORDER:
        return ("order",)
    sides = (question.old, question.mine, question.new)
    if question.field == "(record)" or any(side is not None and _is_whole(case, side) for side in sides):
        return tuple(None if side is None else "…" for side in sides)
    return tuple(None if side is None else _said(case, side) for side in sides)


def _is_whole(case: Case, side: str) -> bool:
    if case.pair.form == "toml" and re.match(r"[\w-]+(\.[\w-]+)+ *=", side):
        return True  # a table by its dotted keys
    return case.pair.form in ("json", "yaml", "toml") and side.lstrip()[:1] in ("{", "[") and len(side) > 1


def _said(case: Case, value: str) -> str:
    """A value without quotes and white space."""
    bare = re.sub(r"\n[ \t]+", "\n", value.replace("\r\n", "\n")).strip()
    if case.pair.form == "properties":
        bare = re.sub(
            r"\\(?:u([0-9A-Fa-f]{4})|(.))", lambda found: chr(int(found[1], 16)) if found[1] else found[2], bare
        )
    if bare[:1] in ("'", '"') and case.pair.form in ("json", "yaml", "toml"):
        try:
            return (
                str(reference.yaml.safe_load(bare)).strip()
                if case.pair.form == "yaml"
                else str(json.loads(bare)).strip()
            )
        except Exception:
            return bare.strip("'\"")
    return bare


def altered(case: Case, text: str) -> list[str]:
    """Lines of the admin's that are gone, more often than the vendor's changes take such; and line ends that changed."""
    found = []
    ends = Counter(re.findall(r"\r?\n", case.mine))
    if len(ends) == 1 and set(re.findall(r"\r?\n", text)) - set(ends):
        found.append("line ends")
    if case.mine.startswith("\ufeff") != text.startswith("\ufeff"):
        found.append("byte-order mark")
    mine, text = case.mine.removeprefix("\ufeff"), text.removeprefix("\ufeff")  # it may stand before another line now
    if mine.count("\n") < 5:
        return found
    exact = Counter(_bare(line) for line in mine.splitlines())
    if case.kind == "resaved":
        return found  # its lines are a program's
    vendor = [_laid_out(case, side) for side in (case.old, case.new)]
    old, new = (Counter(_bare(line).strip() for line in side.splitlines()) for side in vendor)
    spelled = [Counter(_bare(line) for line in side.splitlines()) for side in vendor]
    moved = Counter(line.strip() for line in (spelled[0] - spelled[1]).elements())
    here = Counter(_bare(line) for line in text.splitlines())
    loose = Counter()
    for line, count in (exact - here).items():
        loose[line.strip()] += count
    laid_out = _laid_out(case, text)
    if laid_out is not text:  # a line of its own in another layout is no loss
        every = Counter(_bare(line).strip() for line in laid_out.splitlines())
        loose &= Counter(line.strip() for line in exact.elements()) - every
    vendors = [line for line in old if old[line] > new[line]]
    for line, count in loose.items():
        gone = max(old[line] - new[line], moved[line])
        if not line or count <= gone or line in "{}[]" or count <= _taken_out(*vendor)[line]:
            continue
        if line in old or not _is_near(line, vendors):  # else both changed it, each elsewhere
            found.append(f"{line[:120]!r} {count - gone} times")
    return found


@lru_cache(2)
def _taken_out(old: str, new: str) -> Counter[str]:
    """How often the vendor took out each line, also where it put the same one elsewhere."""
    before, after = ([_bare(line).strip() for line in side.splitlines()] for side in (old, new))
    found: Counter[str] = Counter()
    for change, low, high, *_ in difflib.SequenceMatcher(
        None, before, after, autojunk=len(before) > 5000
    ).get_opcodes():
        if change in ("delete", "replace"):
            found.update(before[low:high])
    return found


def _is_near(line: str, others: Sequence[str]) -> bool:
    """Whether another line says nearly the same: by letters, long ones by words."""
    if len(line) < 400:
        return bool(difflib.get_close_matches(line, others, 1, 0.7))
    words = set(re.split(r"[\s,;]+", line))
    near = (len(words & set(re.split(r"[\s,;]+", other))) / len(words) for other in others if len(other) > 200)
    return max(near, default=0) > 0.7


def _laid_out(case: Case, text: str) -> str:
    """A vendor's text, laid out as the admin's editor did it."""
    if case.kind != "indented" or case.pair.form != "json":
        return text
    try:
        return json.dumps(json.loads(text.removeprefix("\ufeff")), indent=3, ensure_ascii=False)
    except ValueError:  # with comments, or with marks of conflicts
        return text


def _bare(line: str) -> str:
    return line.rstrip().rstrip(",").rstrip()


def ours(case: Case) -> Verdict:
    """Ember Keep's merge."""
    old, mine, new = case.bytes()
    merged: FileMerge = merge_file(case.pair.path, old, mine, new)
    data = mine if merged.data is None else merged.data
    if merged.fault is not None:
        return Verdict(faults=[str(merged.fault)])
    verdict = judged(case, data.decode(), merged.questions)
    if merged.warnings:
        verdict.faults = [str(warning) for warning in merged.warnings]
    if merged.format not in (case.pair.form, "") and merged.format:
        verdict.faults.append(f"taken as {merged.format}")
    return verdict


def by_line(case: Case, command: Sequence[str], room: Path) -> Verdict:
    """A merge by line: a conflict leaves the admin's side, and is no mistake where something is to be asked."""
    names = []
    for name, data in zip(("old", "mine", "new"), case.bytes(), strict=True):
        (room / name).write_bytes(data)
        names.append(str(room / name))
    old, mine, new = names
    done = subprocess.run([*command, mine, old, new], capture_output=True, check=False)
    text = done.stdout.decode(errors="replace")
    conflicts = text.count("<<<<<<<")
    if conflicts and not case.truth.questions:
        return Verdict(false=["conflict"] * conflicts)
    if conflicts:
        text = re.sub(
            r"<<<<<<<[^\n]*\n(.*?)(?:\|\|\|\|\|\|\|.*?)?=======.*?>>>>>>>[^\n]*\n", r"\1", text, flags=re.DOTALL
        )
    verdict = judged(case, text, None)
    if case.truth.questions and not conflicts:
        verdict.missed = ["conflict"]
    return verdict


GIT = ("git", "merge-file", "-p")
DIFF3 = ("diff3", "-m")


# --- the table ----------------------------------------------------------------


def main() -> None:
    parser = argparse.ArgumentParser(description="merging real files of two releases")
    parser.add_argument("--kept-back", action="store_true", help="the pairs that nobody looked at before")
    parser.add_argument("--only", default="", help="pairs whose name holds this")
    parser.add_argument("--class", dest="kind", default="", help="one class of edits")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "real-files")
    parser.add_argument("--show", action="store_true", help="what is wrong with each case")
    parser.add_argument("--alone", action="store_true", help="ours alone")
    args = parser.parse_args()
    pairs = [pair for pair in (KEPT_BACK if args.kept_back else PAIRS) if args.only in pair.name]
    totals = {"ours": Counter[str](), "git": Counter[str](), "diff3": Counter[str]()}
    print(f"{'file':44} {'cases':>5} {'right':>5} {'wrong':>5} {'false':>5} {'missed':>6} {'altered':>7} {'s':>6}")
    with tempfile.TemporaryDirectory() as room:
        for pair in pairs:
            try:
                _row(pair, args, totals, Path(room))
            except ValueError as error:  # its keys are not declared well enough
                print(f"{pair.name[-44:]:44} left out: {error}", flush=True)
    for name, total in totals.items():
        if total["cases"]:
            print(_line(f"all, {name}", total, 0))


def _row(pair: Pair, args: argparse.Namespace, totals: dict[str, Counter[str]], room: Path) -> None:
    old, new = (release(pair, version, args.cache).decode("utf-8") for version in (pair.old, pair.new))
    row: Counter[str] = Counter()
    seconds = 0.0
    for kind in CLASSES:
        if args.kind not in ("", kind) or (case := case_of(pair, kind, old, new, args.seed)) is None:
            continue
        started = time.perf_counter()
        verdict = ours(case)
        seconds += time.perf_counter() - started
        _count(row, verdict)
        _count(totals["ours"], verdict)
        if args.show and not verdict.right:
            _show(kind, verdict)
        if not args.alone:
            _count(totals["git"], by_line(case, GIT, room))
            _count(totals["diff3"], by_line(case, DIFF3, room))
    print(_line(pair.name, row, seconds), flush=True)


def _count(total: Counter[str], verdict: Verdict) -> None:
    total["cases"] += 1
    total["right"] += verdict.right
    for name in ("wrong", "false", "missed", "altered"):
        total[name] += len(getattr(verdict, name))


def _line(name: str, row: Counter[str], seconds: float) -> str:
    counts = (row[key] for key in ("cases", "right", "wrong", "false", "missed", "altered"))
    return f"{name[-44:]:44} {{:5}} {{:5}} {{:5}} {{:5}} {{:6}} {{:7}}".format(*counts) + f" {seconds:6.1f}"


def _show(kind: str, verdict: Verdict) -> None:
    for name in ("faults", "wrong", "false", "missed", "altered"):
        for what in getattr(verdict, name)[:4]:
            print(f"    {kind}: {name}: {what}", file=sys.stderr)


if __name__ == "__main__":
    main()
