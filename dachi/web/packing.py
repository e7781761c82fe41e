"""Pages and files packed on the wire: first loads over a hall's wireless."""

from __future__ import annotations

from flask import Flask, Response, request
from flask_compress import Compress


def install(app: Flask) -> None:
    """Pack answers for browsers that ask for it.

    Answers to addresses with a query are sent as they are: beside text that a stranger's link
    chose, their packed size could tell of what else is on the page.
    """
    app.config["COMPRESS_REGISTER"] = False
    app.config["COMPRESS_ALGORITHM"] = ["br", "gzip"]
    packing = Compress(app)

    def pack(response: Response) -> Response:
        if request.endpoint != "static" and request.query_string:
            return response
        plain = response.response
        packed = packing.after_request(response)
        # A file that was read and packed is not sent any more: nobody else closes it.
        if packed.response is not plain and hasattr(plain, "close"):
            plain.close()
        return packed

    app.after_request(pack)
