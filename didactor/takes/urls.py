from django.urls import path

from didactor.takes import uploads, views

app_name = "takes"
urlpatterns = [
    path("uploads/", uploads.create, name="uploads"),
    path("uploads/<uuid:pk>/", uploads.piece, name="upload"),
    path("for/<int:task_pk>/", views.upload_file, name="upload_file"),
    path("<int:pk>/", views.detail, name="detail"),
    path("<int:pk>/status/", views.status_fragment, name="status_fragment"),
    path("<int:pk>/sound/", views.sound, name="sound"),
    path("<int:pk>/original/", views.original, name="original"),
    path("<int:pk>/why/<int:index>/", views.why, name="why"),
    path("<int:pk>/why/<int:index>/played.wav", views.why_played, name="why_played"),
    path("<int:pk>/why/<int:index>/written.wav", views.why_written, name="why_written"),
    path("<int:pk>/as/<slug:kind>/", views.download, name="download"),
    path("<int:pk>/marks/", views.mark, name="mark"),
    path("<int:pk>/submit/", views.submit, name="submit"),
    path("<int:pk>/delete/", views.delete, name="delete"),
]
