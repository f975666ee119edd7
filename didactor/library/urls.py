from django.urls import path

from didactor.library import passage_views, views

app_name = "library"
urlpatterns = [
    path("", views.index, name="index"),
    path("upload/", views.upload, name="upload"),
    path("recordings/add/", passage_views.add_recording, name="add_recording"),
    path("write/<slug:kind>/", passage_views.write, name="write"),
    path("write/<slug:kind>/preview/", passage_views.write_fragment, name="write_fragment"),
    path("lines/add/", views.line, name="line"),
    path("<int:pk>/photo/", views.photo, name="photo"),
    path("imports/<int:pk>/", views.import_, name="import"),
    path("imports/<int:pk>/files/", views.import_fragment, name="import_fragment"),
    path("exercises/<slug:kind>/", views.exercise, name="exercise"),
    path("exercises/<slug:kind>/preview/", views.exercise_fragment, name="exercise_fragment"),
    path("<int:pk>/", views.piece, name="piece"),
    path("<int:pk>/bars/", views.correct_bar, name="correct_bar"),
    path("<int:pk>/details/", views.details, name="details"),
    path("<int:pk>/versions/add/", views.new_version, name="new_version"),
    path("<int:pk>/put-away/", views.put_away, name="put_away"),
    path("<int:pk>/original/", views.original, name="original"),
    path("passages/<int:pk>/", passage_views.passage, name="passage"),
    path("passages/<int:pk>/note/", passage_views.note, name="passage_note"),
    path("passages/<int:pk>/pins/", passage_views.pins, name="passage_pins"),
    path("passages/<int:pk>/segments/", passage_views.segments, name="passage_segments"),
    path("passages/<int:pk>/accompaniment/", passage_views.accompaniment, name="passage_accompaniment"),
    path("passages/<int:pk>/model/", passage_views.make_model, name="passage_model"),
    path("passages/<int:pk>/models/", passage_views.models_fragment, name="passage_models_fragment"),
    path("passages/<int:pk>/references/", passage_views.add_reference, name="add_reference"),
    path("references/<int:pk>/", passage_views.reference, name="reference"),
    path("references/sounds/<int:pk>/", passage_views.reference_sound, name="reference_sound"),
    path("references/<int:pk>/delete/", passage_views.delete_reference, name="delete_reference"),
    path("models/<int:pk>/", views.model_sound, name="model_sound"),
]
