"""Static files under names that carry the hash of their content, also where one script imports another."""

from whitenoise.storage import CompressedManifestStaticFilesStorage


class Hashed(CompressedManifestStaticFilesStorage):
    """As WhiteNoise's, with the addresses in import statements hashed too."""

    support_js_module_import_aggregation = True
