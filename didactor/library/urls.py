from django.urls import path

from didactor.library import views

app_name = "library"
urlpatterns = [
    path("", views.index, name="index"),
    path("upload/", views.upload, name="upload"),
    path("lines/add/", views.line, name="line"),
    path("<int:pk>/photo/", views.photo, name="photo"),
    path("imports/<int:pk>/", views.import_, name="import"),
    path("imports/<int:pk>/files/", views.import_fragment, name="import_fragment"),
    path("exercises/<slug:kind>/", views.exercise, name="exercise"),
    path("exercises/<slug:kind>/preview/", views.exercise_fragment, name="exercise_fragment"),
    path("<int:pk>/", views.piece, name="piece"),
    path("<int:pk>/details/", views.details, name="details"),
    path("<int:pk>/original/", views.original, name="original"),
    path("models/<int:pk>/", views.model_sound, name="model_sound"),
]
