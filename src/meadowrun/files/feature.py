"""Files."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("Messages")},
    does=(
        Way(
            Wording("Files and pictures"),
            "files.table",
            Wording("images photos logo pdf documents media library assets upload attachments"),
        ),
    ),
)
