"""All addresses: the bench shows everything."""

from django.urls import include, path

urlpatterns = [path("", include("arkund.bench.urls"))]
handler400 = "arkund.bench.errors.bad_request"
handler404 = "arkund.bench.errors.not_found"
handler500 = "arkund.bench.errors.server_error"
