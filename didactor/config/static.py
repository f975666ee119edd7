from __future__ import annotations

from whitenoise.storage import CompressedManifestStaticFilesStorage


class ModuleManifestStorage(CompressedManifestStaticFilesStorage):
    """Hashed file names, also inside ``import`` statements of ES modules."""

    support_js_module_import_aggregation = True
