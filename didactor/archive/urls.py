from django.urls import path

from didactor.archive import views

app_name = "archive"
urlpatterns = [
    path("<int:pk>/file/", views.copy_file, name="copy_file"),
]
