"""Plain data from YAML that people write, with a plain word and a place for what is wrong with it."""

from __future__ import annotations

from typing import Any

import yaml

from bathotype.core.errors import Invalid


def read_plain(text: str | bytes, name: str, *, advice: str = "") -> Any:
    """What a YAML document holds; None for an empty one.  ``name`` is what the text is called in errors.

    Raises `Invalid` for what is no text, no YAML, or holds a value that is none, such as the 30th of February.
    """
    try:
        return yaml.safe_load(text.decode() if isinstance(text, bytes) else text)
    except UnicodeDecodeError as error:
        raise Invalid(f"{name} is no text in UTF-8.", advice=advice or "Save it in that encoding.") from error
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        where = f"line {mark.line + 1}, column {mark.column + 1}: " if mark else ""
        raise Invalid(f"{name} is not YAML: {where}{error.problem or error.context}.", advice=advice) from error
    except yaml.YAMLError as error:
        raise Invalid(f"{name} is not YAML: {str(error).splitlines()[0]}.", advice=advice) from error
    except ValueError as error:
        raise Invalid(f"{name} holds a value that cannot be read: {error}.", advice=advice) from error
    except RecursionError as error:
        raise Invalid(f"{name} is nested too deeply.", advice=advice) from error
