"""The API's routes, one subject a module."""

from chronarch.service import paths as paths  # their addresses hold numbers as it reads them
