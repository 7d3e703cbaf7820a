"""What is wrong with a document, in plain words."""

from pydantic import ValidationError

_NUMBER, _WHOLE, _SWITCH = (
    "it should be a number",
    "it should be a whole number",
    "it should be true or false",
)
_PLAINLY = {
    "float_parsing": _NUMBER,
    "float_type": _NUMBER,
    "finite_number": _NUMBER,
    "int_parsing": _WHOLE,
    "int_parsing_size": _WHOLE,
    "int_type": _WHOLE,
    "int_from_float": _WHOLE,
    "bool_parsing": _SWITCH,
    "bool_type": _SWITCH,
    "string_type": "it should be text",
    "dict_type": "it should be a JSON object",
    "model_type": "it should be a JSON object",
    "model_attributes_type": "it should be a JSON object",
    "tuple_type": "it should be a list",
    "list_type": "it should be a list",
    "extra_forbidden": "there is no such value",
}
"""What the commonest refusals of the model library mean, in plain words."""


def first_complaint(error: ValidationError) -> str:
    """The first thing wrong with a document, as a sentence."""
    path, said = complaint(error)
    return f"{path or 'the sheet'}: {said}"


def complaint(error: ValidationError) -> tuple[str, str]:
    """Path of the first value that is wrong (empty: the whole), and what is wrong with it."""
    first = error.errors(include_url=False)[0]
    said = first["msg"].removeprefix("Value error, ").rstrip(".")
    said = said.replace("Input should be", "it should be").replace(
        "valid dictionary", "JSON object"
    )
    if first["type"] == "union_tag_not_found":
        return ".".join(str(step) for step in first["loc"]), "a stage needs its kind."
    if first["type"] == "union_tag_invalid":
        told = first["ctx"]
        said = f"there is no processor {told['tag']!r:.40}; there are {told['expected_tags']}"
        return ".".join(str(step) for step in first["loc"]), f"{said}."
    if first["type"] == "missing":
        return ".".join(
            str(step) for step in first["loc"][:-1]
        ), f"“{first['loc'][-1]}” is missing."
    said = _PLAINLY.get(first["type"], said)
    if first["type"] != "value_error":
        given = first.get("input")
        said += f"; given was {'nothing' if given is None else repr(str(given)[:60])}"
    return ".".join(str(step) for step in first["loc"]), f"{said}."
