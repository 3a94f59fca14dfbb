"""The notes that a row of a lot can carry: one table of codes, each with what it means and what to
do.
"""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.vocabulary import Severity, Verdict


@dataclass(frozen=True, slots=True)
class NoteKind:
    """`verdict` is what an error of this code makes of its row."""

    code: str
    severity: Severity
    title: str
    remedy: str
    verdict: Verdict | None = None


def _info(code: str, title: str, remedy: str = "Nothing to do.") -> NoteKind:
    return NoteKind(code, Severity.INFO, title, remedy)


def _warn(code: str, title: str, remedy: str) -> NoteKind:
    return NoteKind(code, Severity.WARN, title, remedy)


def _reject(code: str, title: str, remedy: str) -> NoteKind:
    return NoteKind(code, Severity.ERROR, title, remedy, Verdict.REJECT)


def _line(code: str, title: str) -> NoteKind:
    return NoteKind(
        code, Severity.INFO, title, "Nothing to do; if it is a row, take it.", Verdict.NO_ROW
    )


def _conflict(code: str, title: str, remedy: str) -> NoteKind:
    return NoteKind(code, Severity.ERROR, title, remedy, Verdict.CONFLICT)


_KINDS = (
    _info("check_digit_added", "IMEI of 14 digits: its check digit was added"),
    _info(
        "software_version_dropped",
        "IMEI with software version (16 digits): reduced, check digit recomputed",
    ),
    _info("meid_converted", "MEID of 18 decimal digits: converted to hexadecimal"),
    _info("skipped", "left out by hand"),
    _info("taken_back", "the device is taken back into the fleet"),
    _info("merged", "the devices are merged into one"),
    _info("text_formula_unwrapped", 'written as ="…" to keep its zeros: unwrapped'),
    _info(
        "duplicate_row",
        "the same as an earlier row of this file",
        "Nothing to do; the first row counts.",
    ),
    _info("label_removed", "a label stood before the number: removed", "Check the number."),
    _info("words_removed", "words stood beside the number: removed", "Check the number."),
    _info("numbers_apart", "several numbers in one cell: taken apart", "Check the numbers."),
    _info("read_as_meid", "a MEID in a column of IMEIs: read as MEID"),
    _info("zeros_shown", "the zeros that the workbook shows were put before the number"),
    _info("filled_down", "the value of the merged cell above"),
    _info("placeholder_blank", "a placeholder: left blank"),
    _info("date_month_only", "a month without a day: its first or last day"),
    # Of a file or a column as a whole.
    _info(
        "column_by_content",
        "understood by what stands in the column, not by its title",
        "Check the column; say what it is if this is wrong.",
    ),
    _info(
        "column_counts",
        "the column only counts the rows: no identifier",
        "Say that it is the serial number if it is.",
    ),
    _info(
        "column_beaten",
        "another column fits better",
        "Choose this column instead if it is the right one.",
    ),
    _info("date_by_order", "the column itself shows the order of day and month"),
    _info("words_understood", "everyday words, as they were understood"),
    _info("maker_spelled", "another spelling of a known maker"),
    _info("no_byte_order_mark", "UTF-16 without its mark"),
    _info(
        "no_headers",
        "the file has no headers: columns were recognised by what stands in them",
        "Say what the other columns are.",
    ),
    _info("sheets_together", "several sheets read together"),
    _info("json_nested", "the objects were found inside of the document"),
    _info(
        "table_beside",
        "a second table beside the first: left out",
        "Save it as a file of its own if it is needed.",
    ),
    _warn(
        "hidden_sheets",
        "hidden sheets were not read",
        "Choose one of them if it is meant.",
    ),
    _warn(
        "other_sheets",
        "other sheets have rows too",
        "Take them together with this one, or choose another.",
    ),
    _warn(
        "hidden_columns",
        "columns that are hidden in the workbook were read",
        "Make them details if they are not meant.",
    ),
    _warn(
        "encoding_doubted",
        "the encoding was guessed",
        "Compare the words; say the encoding if they are wrong.",
    ),
    _warn(
        "mixed_encodings",
        "some lines are UTF-8, others Windows-1252",
        "Compare the words; ask for the file in one encoding.",
    ),
    _warn("encoded_twice", "text that was encoded twice: brought back", "Compare the words."),
    _warn(
        "mixed_line_ends",
        "lines end in different ways",
        "Check that the number of rows is right.",
    ),
    _line("line_header", "a line of headers"),
    _line("line_title", "a title or a remark, not a row"),
    _line("line_total", "a line of totals"),
    _line("line_page", "a page number"),
    _line("line_sign_off", "a line for signatures, greetings or the end"),
    _line("line_hint", "a line that tells how to fill in the columns"),
    _line("line_packing", "a carton, a pallet or another packing unit"),
    _line("line_rule", "a ruled line"),
    _line("line_other_table", "another table"),
    _warn(
        "no_number",
        "words or a placeholder where a number should be: left out",
        "Nothing to do if the device has no such number; else correct the cell.",
    ),
    _warn(
        "unlike_others",
        "much shorter than the other numbers of the column",
        "Compare with the label.",
    ),
    _warn(
        "look_alike_letters",
        "letters of another alphabet that look like Latin ones: replaced",
        "Compare with the label.",
    ),
    _warn(
        "cell_error_blank",
        "a spreadsheet error stands in the cell: left blank",
        "Repair the formula in the original, or fill in the cell.",
    ),
    _warn(
        "no_name",
        "a bare number, a date or a yes/no where a name should be: left blank",
        "Fill in the name, or leave the cell empty.",
    ),
    _warn(
        "date_from_number",
        "a spreadsheet's number of days: read as a date",
        "Check one of the dates.",
    ),
    _warn(
        "hidden_row",
        "the row is hidden or filtered out in the workbook",
        "Leave these rows out if they are not meant.",
    ),
    _warn(
        "maker_near",
        "a maker that is spelled almost like another",
        "Say whether it is the same maker; the answer is remembered.",
    ),
    _warn(
        "order_unknown",
        "an order that is not here",
        "Correct it, or add the order, so that its devices count against it.",
    ),
    _warn(
        "site_unknown",
        "a site that no device and no person has yet",
        "Correct it if it is not a new site.",
    ),
    _warn(
        "supplier_unknown",
        "a supplier of no order and no lot yet",
        "Correct it if it is not a new supplier.",
    ),
    _warn(
        "asset_tag_twice",
        "several rows give this asset tag",
        "Check the tags; correct the cells.",
    ),
    _warn(
        "asset_tag_taken",
        "another device has this asset tag",
        "Check the tags; correct the cell or that device.",
    ),
    _warn(
        "decimal_ending",
        "a spreadsheet added “.0”: removed",
        "Ask for the column as text next time.",
    ),
    _warn(
        "leading_apostrophe",
        "a leading apostrophe was removed",
        "Nothing to do; check that the rest is right.",
    ),
    _warn(
        "identifier_not_used",
        "the platform has no such identifier: left out",
        "Check the platform of the row, or leave the column empty.",
    ),
    _warn(
        "manual_kept",
        "the value set by hand was kept",
        "Import with “overwrite values set by hand” if the file is right.",
    ),
    _warn(
        "stronger_kept",
        "a value with a stronger basis was kept",
        "Declare the devices by hand if the file is right.",
    ),
    _warn(
        "name_characters",
        "a name that no device can have: left out",
        "A name has letters, digits and hyphens, none at its ends; correct the cell.",
    ),
    _warn(
        "name_too_long",
        "a name longer than the platform takes: left out",
        "Windows takes 15 characters, the others 63; shorten it in the cell.",
    ),
    _warn(
        "name_twice",
        "several rows give this name: left out",
        "Give each device a name of its own; correct the cells.",
    ),
    _warn(
        "name_taken",
        "another device has this name: left out",
        "Choose another name, or rename that device first.",
    ),
    _warn(
        "person_unknown",
        "nobody has this user name or mail: kept as a detail",
        "Import the person first, or correct the cell.",
    ),
    _reject(
        "device_unknown",
        "no device has this identifier",
        "Correct it; or say that unknown devices are to be added.",
    ),
    _reject(
        "scientific_notation",
        "a spreadsheet turned the number into a power of ten (3.5E+14)",
        "The digits are lost in this file: ask the supplier for the column formatted as text.",
    ),
    _reject(
        "thousands_separators",
        "a spreadsheet put thousands separators into the number",
        "Format the column as text in the original and export again.",
    ),
    _reject(
        "looks_like_date",
        "a date stands where a number should be",
        "A spreadsheet may have converted it: format the column as text in the original and export"
        " again.",
    ),
    _reject(
        "cell_error",
        "a spreadsheet error (#N/A, ####) stands in the cell",
        "Repair the formula or widen the column in the original and export again.",
    ),
    _reject(
        "digits_lost",
        "IMEI with fewer than 14 digits: digits were lost from the left",
        "Format the column as text in the original, restore the zeros, export again.",
    ),
    _reject(
        "placeholder",
        "a placeholder, not an identifier",
        "Fill in the real number, or leave the cell empty.",
    ),
    _reject(
        "words",
        "words, not a number",
        "Fill in the real number, or take the row if the number is written so.",
    ),
    _reject(
        "repeated_value",
        "the same value stands in many rows where all others differ",
        "Fill in the real numbers, or take the rows if they are right.",
    ),
    _reject(
        "fraction",
        "an amount or a fraction, not an identifier",
        "Check whether the columns are right.",
    ),
    _reject(
        "two_numbers",
        "two numbers in one cell, of which a device has only one",
        "Leave one of them in the cell, or write them into two rows.",
    ),
    _reject(
        "other_kind",
        "the cell says that it is another kind of number",
        "Move the number to its column.",
    ),
    _reject(
        "imei_check_failed",
        "IMEI whose check digit is wrong",
        "Compare with the label: a digit is mistyped.",
    ),
    _reject(
        "imei_length",
        "an IMEI has 15 digits; this has more than 16",
        "Compare with the label; two numbers may have run together.",
    ),
    _reject(
        "imei_characters",
        "an IMEI has digits only",
        "Check whether this is the serial number column.",
    ),
    _reject(
        "meid_characters",
        "a MEID has hexadecimal digits only",
        "Compare with the label; this may be another kind of number.",
    ),
    _reject(
        "meid_length", "a MEID has 14 hexadecimal or 18 decimal digits", "Compare with the label."
    ),
    _reject("eid_characters", "an EID has digits only", "Compare with the label."),
    _reject(
        "eid_length",
        "an EID has 32 digits",
        "Compare with the label; a spreadsheet may have cut the number: format the column as text.",
    ),
    _reject(
        "eid_check_failed",
        "EID whose check digits are wrong",
        "Compare with the label: a digit is mistyped.",
    ),
    _reject(
        "mac_characters", "a network address has hexadecimal digits only", "Compare with the label."
    ),
    _reject(
        "mac_length", "a network address has 12 or 16 hexadecimal digits", "Compare with the label."
    ),
    _reject(
        "mac_of_group",
        "the network address of a group, not of a device",
        "Read the address from the device itself.",
    ),
    _reject(
        "mac_randomised",
        "a network address that the device made up (locally administered): it changes",
        "Read the hardware's own address, or leave the column empty.",
    ),
    _reject(
        "uuid_form", "a UUID has 32 hexadecimal digits", "Compare with what the device reports."
    ),
    _reject(
        "fingerprint_form",
        "a hardware fingerprint is base64 text of at least 16 characters",
        "Export it from the device again.",
    ),
    _reject(
        "fingerprint_length",
        "a hardware fingerprint has at most 8 KiB",
        "Export it from the device again.",
    ),
    _reject("serial_length", "a serial number has 3 to 64 characters", "Compare with the label."),
    _reject(
        "serial_characters",
        "a serial number has only A–Z, 0–9 and - . / _ +",
        "Compare with the label and retype it.",
    ),
    _reject(
        "nothing_valid",
        "no valid identifier in the row",
        "Give at least one serial number, IMEI or other hardware identifier.",
    ),
    _reject(
        "platform_unknown",
        "not a platform that Sortitor knows",
        "Write android, ios, windows, macos or linux.",
    ),
    _reject(
        "ownership_unknown",
        "not an ownership that Sortitor knows",
        "Write corporate, personal, partner or unknown.",
    ),
    _reject("date_unreadable", "not a date", "Write dates as 2026-03-31 (or 31.03.2026)."),
    _reject(
        "date_order_open",
        "day or month first? Nothing in the column decides it",
        "Say for the column whether the day or the month comes first.",
    ),
    _reject(
        "date_unlikely",
        "a date before 1990 or far ahead",
        "Correct it, or take the row if it is right.",
    ),
    _reject(
        "text_too_long",
        "longer than 500 characters",
        "Shorten it; a missing quote may have joined many lines.",
    ),
    _reject(
        "formula", "a spreadsheet formula stands where text should be", "Replace it by its value."
    ),
    _reject(
        "extra_cells",
        "more cells than the header has columns",
        "A separator inside a value needs quotes around the value.",
    ),
    _conflict(
        "rows_disagree",
        "rows of this file share an identifier but differ",
        "Keep the right row and remove the others.",
    ),
    _conflict(
        "rows_same_device",
        "several rows of this file point at one device by different identifiers",
        "Join them into one row.",
    ),
    _conflict(
        "two_devices",
        "the identifiers of the row belong to different devices",
        "Check which device is meant; correct the row.",
    ),
    _conflict("ambiguous_serial", "several makers use this serial number", "Give the maker."),
    _conflict(
        "serial_differs",
        "the device found by IMEI has another serial number",
        "Compare with the label; correct the row or the device.",
    ),
    _conflict(
        "retired_device",
        "the device is retired",
        "Take the device back first, or leave the row out.",
    ),
    _conflict(
        "flagged_device",
        "the device is reported missing or stolen",
        "Clear the report first, or leave the row out.",
    ),
)

#: Doubts about a row's numbers and dates that a person can set aside.
DOUBTS = ("words", "repeated_value", "fraction", "date_unlikely")

CATALOGUE: dict[str, NoteKind] = {kind.code: kind for kind in _KINDS}
