"""The one error for input that a person can mend."""


class InputError(ValueError):
    """Something given to Avocet cannot be used.

    The message stands on its own in the page and on the command line: it names the file and
    the value that are wrong.
    """
