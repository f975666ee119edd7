from django.urls import include, path

from didactor.people.views import home

urlpatterns = [
    path("", home, name="home"),
    path("", include("didactor.people.urls")),
    path("library/", include("didactor.library.urls")),
    path("assignments/", include("didactor.assignments.urls")),
    path("takes/", include("didactor.takes.urls")),
    path("desk/", include("didactor.review.urls")),
]
