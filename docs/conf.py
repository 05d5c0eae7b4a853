"""How the pages are built: Sphinx, MyST for the pages, autodoc for the reference."""

import sys
from pathlib import Path

from sphinx.application import Sphinx

sys.path.insert(0, str(Path(__file__).parent))

import made

import eptaro

project = "Eptaro"
author = copyright = "the Eptaro authors"
version = release = eptaro.__version__

extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
default_role = "code"
myst_enable_extensions = ["colon_fence"]
myst_heading_anchors = 3
suppress_warnings = ["myst.xref_missing_external"]

autodoc_member_order = "bysource"
autodoc_typehints = "none"
autodoc_inherit_docstrings = False
autoclass_content = "class"
napoleon_numpy_docstring = True
napoleon_google_docstring = False
napoleon_use_rtype = False

html_theme = "furo"
html_title = f"Eptaro {version}"
html_static_path: list[str] = []
html_show_sourcelink = False
html_copy_source = False


def setup(app: Sphinx) -> None:
    """Write the pages that are made from the code before they are read."""
    app.connect("builder-inited", lambda _: made.write(Path(__file__).parent / "made"))
